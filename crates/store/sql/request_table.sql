-- A part of the table of the requests that concern the viewer, those of `requests_for`, as `account_table`.
-- `wanted` has, each if it is wanted: words, credential, who, reason (patterns), state, sort and down.
CREATE OR REPLACE FUNCTION request_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH every AS (
        SELECT r.id, lower(r.place || '/' || r.credential_name) AS credential, lower(r.person_name) AS who, lower(r.reason) AS reason, r.state, r.asked_at, r.minutes
        FROM requests_for($1, NULL, $3->>'state', NULL, 'infinity', 'ffffffff-ffff-ffff-ffff-ffffffffffff', NULL) r
    ), keyed AS (
        SELECT e.id, e.asked_at, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'credential' THEN e.credential WHEN 'who' THEN e.who WHEN 'state' THEN e.state WHEN 'reason' THEN e.reason END AS word,
               CASE $3->>'sort' WHEN 'asked' THEN extract(epoch FROM e.asked_at) WHEN 'minutes' THEN e.minutes END AS number
        FROM every e
        WHERE (NOT $3 ? 'credential' OR e.credential LIKE $3->>'credential') AND (NOT $3 ? 'who' OR e.who LIKE $3->>'who')
          AND (NOT $3 ? 'reason' OR e.reason LIKE $3->>'reason')
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w WHERE e.credential || ' ' || e.who || ' ' || e.reason NOT LIKE w)
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC,
             CASE WHEN NOT ($3->>'down')::boolean THEN k.number END, CASE WHEN ($3->>'down')::boolean THEN k.number END DESC, k.asked_at DESC, k.id
    OFFSET $4 LIMIT $5
$$;
