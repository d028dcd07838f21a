-- How many credentials narrowings fit, by folder and by which of them (from 1); `without` left out. Folders
-- and credentials come as rows: a long list in a condition would cost the planner more than the looking.
CREATE OR REPLACE FUNCTION limited_grant_counts(kinds text[], tags text[], folders uuid[], without uuid[])
    RETURNS TABLE(folder_id uuid, fits integer[], credentials bigint, own_gates bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH narrowed AS MATERIALIZED (SELECT o.kind, o.tag, o.nth::integer FROM unnest($1, $2) WITH ORDINALITY AS o(kind, tag, nth)),
         wanted AS MATERIALIZED (SELECT unnest($3) AS id),
         without AS MATERIALIZED (SELECT unnest($4) AS id)
    SELECT c.folder_id, f.fits, count(*) AS credentials, count(*) FILTER (WHERE EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id)) AS own_gates
    FROM credential c CROSS JOIN LATERAL (
        SELECT array_agg(o.nth ORDER BY o.nth) AS fits FROM narrowed o WHERE (o.kind IS NULL OR o.kind = c.kind) AND (o.tag IS NULL OR o.tag = ANY (c.tags))
    ) f
    WHERE c.removed_at IS NULL AND f.fits IS NOT NULL AND c.folder_id IN (SELECT id FROM wanted) AND c.id NOT IN (SELECT id FROM without)
    GROUP BY 1, 2
$$;
