-- Counts a refusal of a stranger. Whether it is the first of its minute, which is recorded by itself.
CREATE OR REPLACE FUNCTION count_stranger_refusal(refused text, origin text, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE sql
AS $$
    INSERT INTO stranger_refusal AS r (organisation, action, since, count) VALUES (scope(), $1, $3, 0)
    ON CONFLICT (organisation, action) DO UPDATE SET count = r.count + 1,
        origins = CASE WHEN $2 = ANY (r.origins) OR cardinality(r.origins) >= 10 THEN r.origins ELSE r.origins || $2 END
    RETURNING (count = 0)
$$;
