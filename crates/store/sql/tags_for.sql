-- The tags of the credentials that somebody may know of, with how many each has.
CREATE OR REPLACE FUNCTION tags_for(person uuid, at timestamp with time zone)
    RETURNS TABLE(tag text, times bigint)
    LANGUAGE sql
    STABLE
AS $$
    SELECT t.tag, count(*) AS times FROM credential c, unnest(c.tags) AS t(tag)
    WHERE c.removed_at IS NULL AND c.tags <> '{}' AND level_on_credential($1, c.id, $2) IS NOT NULL GROUP BY 1 ORDER BY lower(t.tag) LIMIT 1000
$$;
