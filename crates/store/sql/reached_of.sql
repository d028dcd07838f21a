-- Which of these credentials the viewer may know of: those that `level_on_credential` has a level for, with one
-- look at the grants for all of them.
CREATE OR REPLACE FUNCTION reached_of(viewer uuid, at timestamp with time zone, credentials uuid[])
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    WITH own AS MATERIALIZED (
        SELECT g.folder_id, g.credential_id, g.only_kind, g.only_tag FROM access_grant g
        WHERE (g.person_id = $1 OR g.group_id = ANY (subjects_of($1))) AND (g.ends_at IS NULL OR $2 < g.ends_at)
    ), whole AS MATERIALIZED (
        SELECT DISTINCT s.folder_id FROM own g JOIN folder_source s ON s.source_id = g.folder_id WHERE g.only_kind IS NULL AND g.only_tag IS NULL
    )
    SELECT c.id FROM credential c WHERE c.id = ANY ($3) AND (c.folder_id IN (SELECT w.folder_id FROM whole w)
        OR c.id IN (SELECT g.credential_id FROM own g WHERE g.credential_id IS NOT NULL)
        OR EXISTS (SELECT FROM own g JOIN folder_source s ON s.source_id = g.folder_id WHERE (g.only_kind IS NOT NULL OR g.only_tag IS NOT NULL)
                   AND s.folder_id = c.folder_id AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))))
$$;
