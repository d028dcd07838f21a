-- A part of the table of the viewer's own checkouts, as `account_table`. `wanted` has, each if it is wanted:
-- words, credential, reason (patterns), ended (how, or `held-now`), sort and down.
CREATE OR REPLACE FUNCTION checkout_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH every AS (
        SELECT k.id, lower(k.place || '/' || k.credential_name) AS credential, lower(k.reason) AS reason, k.starts_at, coalesce(k.ended_at, k.ends_at) AS until,
               coalesce(k.ended_how, 'held-now') AS ended
        FROM checkout_view k WHERE k.person_id = $1
    ), keyed AS (
        SELECT e.id, e.starts_at, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'credential' THEN e.credential WHEN 'ended' THEN e.ended WHEN 'reason' THEN e.reason END AS word,
               CASE $3->>'sort' WHEN 'from' THEN e.starts_at WHEN 'until' THEN e.until END AS moment
        FROM every e
        WHERE (NOT $3 ? 'ended' OR e.ended = $3->>'ended') AND (NOT $3 ? 'credential' OR e.credential LIKE $3->>'credential')
          AND (NOT $3 ? 'reason' OR e.reason LIKE $3->>'reason')
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w WHERE e.credential || ' ' || e.reason NOT LIKE w)
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC,
             CASE WHEN NOT ($3->>'down')::boolean THEN k.moment END, CASE WHEN ($3->>'down')::boolean THEN k.moment END DESC, k.starts_at DESC, k.id
    OFFSET $4 LIMIT $5
$$;
