-- The extension is loaded first, so that its parameter is known in this session.
DO $$ BEGIN PERFORM show_trgm(''); END $$;

-- What resembles a text by groups of three letters, of this organisation. Two letters that changed
-- places leave a word of five a third of its groups.
CREATE OR REPLACE FUNCTION resembling(typed text)
    RETURNS SETOF uuid
    LANGUAGE plpgsql
    STABLE SECURITY DEFINER ROWS 50
    SET search_path TO 'public', 'pg_temp'
    SET "pg_trgm.word_similarity_threshold" TO '0.3'
AS $$
BEGIN
    RETURN QUERY
        (SELECT c.id FROM credential c WHERE c.organisation = scope() AND c.removed_at IS NULL AND typed <% c.search
         ORDER BY word_similarity(typed, c.search) DESC, c.id LIMIT 500)
        UNION
        (SELECT c.id FROM folder f JOIN credential c ON c.folder_id = f.id
         WHERE f.organisation = scope() AND f.removed_at IS NULL AND c.removed_at IS NULL AND typed <% lower(f.name)
         ORDER BY word_similarity(typed, lower(f.name)) DESC, c.id LIMIT 500)
        UNION
        (SELECT c.id FROM device v JOIN credential c ON c.device_id = v.id
         WHERE v.organisation = scope() AND c.removed_at IS NULL AND typed <% lower(v.name || ' ' || v.address)
         ORDER BY word_similarity(typed, lower(v.name || ' ' || v.address)) DESC, c.id LIMIT 500);
END $$;
REVOKE ALL ON FUNCTION resembling(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION resembling(text) TO jexlin_service;
