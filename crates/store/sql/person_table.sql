-- A part of the table of people, as `account_table`. `wanted` has, each if it is wanted: words, name,
-- sign-in-name, group (patterns; of a group that they are directly in), type, state, duty, sort and down.
-- Everybody may know their colleagues.
CREATE OR REPLACE FUNCTION person_table(viewer uuid, at timestamp with time zone, wanted jsonb, rows_before bigint, size bigint)
    RETURNS TABLE(found uuid, total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH narrowed AS (
        SELECT p.id, lower(p.display_name) AS name, lower(p.sign_in_name) AS signs_in, p.state, array_to_string(p.duties, ' ') AS duties
        FROM person p
        WHERE (NOT $3 ? 'type' OR (p.person_type = 'client') = ($3->>'type' = 'client')) AND (NOT $3 ? 'state' OR p.state = $3->>'state')
          AND (NOT $3 ? 'duty' OR $3->>'duty' = ANY (p.duties))
          AND (NOT $3 ? 'name' OR lower(p.display_name) LIKE $3->>'name' OR lower(p.sign_in_name) LIKE $3->>'name')
          AND (NOT $3 ? 'sign-in-name' OR lower(p.sign_in_name) LIKE $3->>'sign-in-name')
          AND (NOT $3 ? 'group' OR EXISTS (SELECT FROM group_member m JOIN people_group g ON g.id = m.group_id WHERE m.member = p.id AND lower(g.name) LIKE $3->>'group'))
          AND NOT EXISTS (SELECT FROM jsonb_array_elements_text($3->'words') w
                          WHERE lower(p.display_name || ' ' || p.sign_in_name || ' ' || array_to_string(p.duties, ' ')) NOT LIKE w)
    ), keyed AS (
        SELECT n.*, count(*) OVER () AS total,
               CASE $3->>'sort' WHEN 'sign-in-name' THEN n.signs_in WHEN 'state' THEN n.state WHEN 'duties' THEN n.duties ELSE n.name END AS word
        FROM narrowed n
    )
    SELECT k.id, k.total FROM keyed k
    ORDER BY CASE WHEN NOT ($3->>'down')::boolean THEN k.word END, CASE WHEN ($3->>'down')::boolean THEN k.word END DESC, k.name, k.id
    OFFSET $4 LIMIT $5
$$;
