-- A part of the table of the devices in folders that the viewer may know of, as `account_table`. `wanted` has,
-- each if it is wanted: words, name, folder, address (patterns), type, identity (`confirmed` or
-- `not-confirmed`), state (`paused` or `not-paused`), sort and down.
CREATE OR REPLACE FUNCTION device_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH every AS MATERIALIZED (
        SELECT d.id, lower(d.name) AS name, lower(d.platform || ' ' || d.description) AS about, d.folder_id, lower(d.address || ':' || d.port) AS address, d.connector,
               CASE WHEN d.identity = '' THEN 'not-confirmed' ELSE 'confirmed' END AS identity,
               CASE WHEN d.paused_at IS NULL THEN 'not-paused' ELSE 'paused' END AS state
        FROM device d
        WHERE d.removed_at IS NULL AND level_on_folder($1, d.folder_id, $2) IS NOT NULL
    ), place AS MATERIALIZED (
        SELECT f.folder_id, lower(coalesce(path_of(f.folder_id), '')) AS path FROM (SELECT DISTINCT e.folder_id FROM every e) f
    ), keyed AS (
        SELECT e.id, e.name, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'type' THEN e.connector WHEN 'folder' THEN p.path WHEN 'address' THEN e.address WHEN 'identity' THEN e.identity
                                WHEN 'state' THEN e.state ELSE e.name END AS word,
               CASE $3->>'sort' WHEN 'accounts' THEN (SELECT count(*) FROM account a WHERE a.device_id = e.id) END AS number
        FROM every e JOIN place p ON p.folder_id = e.folder_id
        WHERE (NOT $3 ? 'type' OR e.connector = $3->>'type') AND (NOT $3 ? 'identity' OR e.identity = $3->>'identity')
          AND (NOT $3 ? 'state' OR e.state = $3->>'state') AND (NOT $3 ? 'name' OR e.name LIKE $3->>'name')
          AND (NOT $3 ? 'folder' OR p.path LIKE $3->>'folder') AND (NOT $3 ? 'address' OR e.address LIKE $3->>'address')
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w WHERE e.name || ' ' || p.path || ' ' || e.address || ' ' || e.connector || ' ' || e.about NOT LIKE w)
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.number END, CASE WHEN ($3->>'down')::boolean THEN k.number END DESC,
             CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC, k.name, k.id
    OFFSET $4 LIMIT $5
$$;
