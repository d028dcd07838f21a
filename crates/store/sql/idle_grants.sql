-- The grants that are of no use, by type of issue: `left`, `expired` or `redundant`. What makes one redundant is a
-- grant to the same subject or to a group that it is in, from the same place or one above, not lower, not
-- shorter, not narrower, not with less of the history.
CREATE OR REPLACE FUNCTION idle_grants(at timestamp with time zone)
    RETURNS TABLE(id uuid, issue_type text)
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE up(subject, above) AS (
        SELECT s.id, s.id FROM (SELECT DISTINCT coalesce(person_id, group_id) AS id FROM access_grant) AS s
        UNION SELECT up.subject, m.group_id FROM up JOIN group_member m ON m.member = up.above
    ), covered AS MATERIALIZED (
        SELECT DISTINCT g.id FROM access_grant g LEFT JOIN credential c ON c.id = g.credential_id
        JOIN up ON up.subject = coalesce(g.person_id, g.group_id)
        JOIN folder_source s ON s.folder_id = coalesce(g.folder_id, c.folder_id)
        JOIN access_grant h ON coalesce(h.person_id, h.group_id) = up.above AND h.id <> g.id
             AND (h.folder_id = s.source_id OR h.credential_id = g.credential_id)
        WHERE h.held >= g.held AND (h.history OR NOT g.history OR g.held < 3)
          AND (h.ends_at IS NULL OR ($1 < h.ends_at AND g.ends_at <= h.ends_at))
          AND (h.only_kind IS NULL OR h.only_kind = g.only_kind OR h.only_kind = c.kind)
          AND (h.only_tag IS NULL OR h.only_tag = g.only_tag OR h.only_tag = ANY (c.tags))
          -- Of two that say the same by way of groups in a ring, one stays.
          AND (h.id < g.id OR coalesce(h.person_id, h.group_id) = coalesce(g.person_id, g.group_id) OR NOT EXISTS (
                SELECT FROM up u WHERE u.subject = coalesce(h.person_id, h.group_id) AND u.above = coalesce(g.person_id, g.group_id)))
    ), idle AS MATERIALIZED (
        SELECT g.id, CASE WHEN p.state = 'left' THEN 'left' WHEN g.ends_at <= $1 THEN 'expired' ELSE 'redundant' END AS issue_type
        FROM access_grant g LEFT JOIN person p ON p.id = g.person_id
        WHERE p.state = 'left' OR g.ends_at <= $1 OR g.id IN (SELECT id FROM covered)
    )
    SELECT w.id, idle.issue_type FROM grant_view w JOIN idle ON idle.id = w.id ORDER BY idle.issue_type, lower(w.place), w.subject_name, w.id
$$;
