-- A grant with the names that people know.
CREATE OR REPLACE VIEW grant_view WITH (security_invoker=true) AS
    SELECT g.id, g.folder_id, g.credential_id, g.person_id, g.group_id, g.held, g.ends_at, g.note, g.only_kind, g.only_tag, g.history, g.revision,
           coalesce(path_of(g.folder_id), path_of(c.folder_id) || '/' || c.name, '') AS place, coalesce(p.display_name, pg.name, '') AS subject_name
    FROM access_grant g
    LEFT JOIN credential c ON c.id = g.credential_id
    LEFT JOIN person p ON p.id = g.person_id
    LEFT JOIN people_group pg ON pg.id = g.group_id;
GRANT SELECT ON grant_view TO jexlin_service;
