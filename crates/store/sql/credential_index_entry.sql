-- A credential with all that the index of access keeps of it.
CREATE OR REPLACE VIEW credential_index_entry WITH (security_invoker=true) AS
    SELECT c.id, c.folder_id, c.kind, c.tags, EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id) AS gate
    FROM credential c
    WHERE c.removed_at IS NULL;
GRANT SELECT ON credential_index_entry TO jexlin_service;
