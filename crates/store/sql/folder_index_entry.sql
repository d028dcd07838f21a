-- A folder with all that the index of access keeps of it: how many credentials are in it, and how many
-- of them have a gate of their own.
CREATE OR REPLACE VIEW folder_index_entry WITH (security_invoker=true) AS
    SELECT f.id, f.parent_id, f.name, f.closed, EXISTS (SELECT FROM gate g WHERE g.folder_id = f.id AND g.credential_id IS NULL) AS gate,
           coalesce(n.credentials, 0)::bigint AS credentials, coalesce(o.own_gates, 0)::bigint AS own_gates
    FROM folder f
    LEFT JOIN LATERAL (SELECT sum(n.credentials) AS credentials FROM folder_count n WHERE n.folder_id = f.id) n ON true
    LEFT JOIN (SELECT c.folder_id, count(*) AS own_gates FROM gate g JOIN credential c ON c.id = g.credential_id WHERE c.removed_at IS NULL GROUP BY 1) o
        ON o.folder_id = f.id;
GRANT SELECT ON folder_index_entry TO jexlin_service;
