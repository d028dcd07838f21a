-- Everything that is not secret can be found.
CREATE OR REPLACE FUNCTION searchable(name text, fields jsonb, tags text[])
    RETURNS text
    LANGUAGE sql
    IMMUTABLE PARALLEL SAFE
AS $$
    SELECT lower(left(name || ' ' || coalesce((SELECT string_agg(f.value, ' ') FROM jsonb_each_text(fields) f), '') || ' ' || array_to_string(tags, ' '), 4000))
$$;
