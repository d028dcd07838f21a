-- Access requests with the names that people know and with the level that the viewer holds: one that is
-- wanted, or those that concern the viewer, the waiting ones first, then the newest. Whether the viewer may
-- decide, core says.
CREATE OR REPLACE FUNCTION access_requests_for(viewer uuid, at timestamp with time zone, wanted uuid, settled boolean, before_at timestamp with time zone, before_id uuid, size bigint)
    RETURNS TABLE(id uuid, credential_id uuid, place text, person_id uuid, person_name text, held smallint, reason text, state text,
        asked_at timestamp with time zone, decided_by_name text, comment text, viewer uuid, viewer_held smallint)
    LANGUAGE sql
    STABLE
AS $$
    SELECT q.* FROM (
        SELECT w.id, w.credential_id, coalesce(path_of(c.folder_id), '') || '/' || c.name AS place, w.person_id, p.display_name AS person_name,
               w.held, w.reason, w.state, w.asked_at, d.display_name AS decided_by_name, w.comment, $1 AS viewer,
               CASE WHEN c.removed_at IS NULL THEN level_on_credential($1, c.id, $2) END AS viewer_held
        FROM access_request w
        JOIN credential c ON c.id = w.credential_id
        JOIN person p ON p.id = w.person_id
        LEFT JOIN person d ON d.id = w.decided_by
        WHERE $3 IS NULL OR w.id = $3
    ) q
    WHERE ($3 IS NOT NULL OR q.person_id = $1 OR q.viewer_held = 5)
      AND ((q.state <> 'waiting') > $4 OR ((q.state <> 'waiting') = $4 AND (q.asked_at, q.id) < ($5, $6)))
    ORDER BY q.state <> 'waiting', q.asked_at DESC, q.id DESC LIMIT $7
$$;
