-- A part of the table of the jobs of accounts that the viewer may know of, as `account_table`. `wanted` has,
-- each if it is wanted: words, credential, device (patterns), on (a device), task, state, cause, sort and down. What a device
-- said is for its stewards, so nothing is found by it.
CREATE OR REPLACE FUNCTION job_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH every AS MATERIALIZED (
        SELECT * FROM (
            SELECT j.id, c.name, c.folder_id, d.name AS device, j.task, j.cause, j.queued_at, job_shown(j.state, j.outcome) AS state
            FROM job j JOIN credential c ON c.id = j.credential_id JOIN device d ON d.id = j.device_id
            WHERE (NOT $3 ? 'on' OR j.device_id = ($3->>'on')::uuid) AND c.id IN (SELECT reached_of($1, $2, ARRAY(SELECT DISTINCT o.credential_id FROM job o)))
        ) e
        WHERE (NOT $3 ? 'task' OR e.task = $3->>'task') AND (NOT $3 ? 'cause' OR e.cause = $3->>'cause') AND (NOT $3 ? 'state' OR e.state = $3->>'state')
          AND (NOT $3 ? 'device' OR lower(e.device) LIKE $3->>'device')
    ), place AS MATERIALIZED (
        SELECT f.folder_id, coalesce(path_of(f.folder_id), '') AS path FROM (SELECT DISTINCT e.folder_id FROM every e) f
    ), keyed AS (
        SELECT e.id, e.queued_at, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'credential' THEN lower(p.path || '/' || e.name) WHEN 'device' THEN lower(e.device) WHEN 'state' THEN e.state
                                WHEN 'task' THEN e.task WHEN 'cause' THEN e.cause END AS word
        FROM every e JOIN place p ON p.folder_id = e.folder_id
        WHERE (NOT $3 ? 'credential' OR lower(p.path || '/' || e.name) LIKE $3->>'credential')
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w
                          WHERE lower(p.path || '/' || e.name || ' ' || e.device || ' ' || e.task || ' ' || e.state) NOT LIKE w)
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC,
             CASE WHEN $3->>'sort' = 'queued' AND NOT ($3->>'down')::boolean THEN k.queued_at END, k.queued_at DESC, k.id DESC
    OFFSET $4 LIMIT $5
$$;
