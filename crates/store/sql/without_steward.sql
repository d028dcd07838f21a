-- Of these folders, or of all, those that no active person is a steward of.
CREATE OR REPLACE FUNCTION without_steward(among uuid[], at timestamp with time zone)
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE active(id) AS (
        SELECT p.id FROM person p WHERE p.state = 'active'
        UNION SELECT m.group_id FROM active JOIN group_member m ON m.member = active.id
    ), stewarded AS MATERIALIZED (
        SELECT DISTINCT s.folder_id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id
        WHERE g.held = 5 AND g.only_kind IS NULL AND g.only_tag IS NULL AND (g.ends_at IS NULL OR $2 < g.ends_at)
          AND coalesce(g.person_id, g.group_id) IN (SELECT id FROM active)
    )
    SELECT f.id FROM folder f WHERE f.removed_at IS NULL AND ($1 IS NULL OR f.id = ANY ($1)) AND f.id NOT IN (SELECT folder_id FROM stewarded)
$$;
