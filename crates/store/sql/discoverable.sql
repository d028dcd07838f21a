-- The credentials of this organisation with a text in their name that somebody holds nothing on, in
-- the order of names, but for what is in closed folders. The organisation is named for the sake of the
-- index, as in `matching`.
CREATE OR REPLACE FUNCTION discoverable(viewer uuid, at timestamp with time zone, pattern text, after_name text, after_id uuid, most bigint)
    RETURNS SETOF uuid
    LANGUAGE plpgsql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    RETURN QUERY
        SELECT c.id FROM credential c
        WHERE c.organisation = scope() AND c.removed_at IS NULL AND c.search LIKE pattern AND lower(c.name) LIKE pattern AND (lower(c.name), c.id) > (after_name, after_id)
          AND inherits_to_top(c.folder_id) AND level_on_credential(viewer, c.id, at) IS NULL
        ORDER BY lower(c.name), c.id LIMIT most;
END $$;
REVOKE ALL ON FUNCTION discoverable(uuid,timestamp with time zone,text,text,uuid,bigint) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION discoverable(uuid,timestamp with time zone,text,text,uuid,bigint) TO jexlin_service;
