-- A checkout with the names that people know.
CREATE OR REPLACE VIEW checkout_view WITH (security_invoker=true) AS
    SELECT k.id, k.credential_id, c.name AS credential_name, coalesce(path_of(c.folder_id), '') AS place, k.person_id, p.display_name AS person_name,
           k.reason, k.starts_at, k.ends_at, k.ended_at, k.ended_how, k.rotate_on_return
    FROM checkout k
    JOIN credential c ON c.id = k.credential_id
    JOIN person p ON p.id = k.person_id;
GRANT SELECT ON checkout_view TO jexlin_service;
