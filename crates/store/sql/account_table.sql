-- A part of the table of the accounts that the viewer may know of: which, in their order, and how many rows
-- the whole table has. `wanted` has, each if it is wanted: words (patterns of LIKE), credential, device
-- (patterns), check (`never-checked` where there was none), sort and down.
CREATE OR REPLACE FUNCTION account_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH every AS MATERIALIZED (
        SELECT c.id, c.name, c.folder_id, d.name AS device, coalesce(a.check_outcome, 'never-checked') AS state, a.checked_at, a.rotated_at, a.next_check_at, a.next_rotation_at
        FROM account a JOIN credential c ON c.id = a.credential_id JOIN device d ON d.id = a.device_id
        WHERE c.removed_at IS NULL
          AND c.id IN (SELECT reached_of($1, $2, ARRAY(SELECT o.credential_id FROM account o WHERE o.credential_id IS NOT NULL)))
          AND (NOT $3 ? 'check' OR coalesce(a.check_outcome, 'never-checked') = $3->>'check')
          AND (NOT $3 ? 'device' OR lower(d.name) LIKE $3->>'device')
    ), place AS MATERIALIZED (
        SELECT f.folder_id, coalesce(path_of(f.folder_id), '') AS path FROM (SELECT DISTINCT e.folder_id FROM every e) f
    ), narrowed AS (
        SELECT e.*, lower(p.path || '/' || e.name) AS credential FROM every e JOIN place p ON p.folder_id = e.folder_id
        WHERE (NOT $3 ? 'credential' OR lower(p.path || '/' || e.name) LIKE $3->>'credential')
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w WHERE lower(p.path || '/' || e.name || ' ' || e.device) NOT LIKE w)
    ), keyed AS (
        SELECT n.id, n.credential, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'credential' THEN n.credential WHEN 'device' THEN lower(n.device) WHEN 'state' THEN n.state END AS word,
               CASE $3->>'sort' WHEN 'checked' THEN n.checked_at WHEN 'rotated' THEN n.rotated_at
                                WHEN 'next-check' THEN n.next_check_at WHEN 'next-rotation' THEN n.next_rotation_at END AS moment
        FROM narrowed n
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC,
             CASE WHEN NOT ($3->>'down')::boolean THEN k.moment END NULLS FIRST, CASE WHEN ($3->>'down')::boolean THEN k.moment END DESC NULLS LAST,
             k.credential, k.id
    OFFSET $4 LIMIT $5
$$;
