CREATE OR REPLACE FUNCTION path_of(folder uuid)
    RETURNS text
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN (WITH RECURSIVE up(id, parent_id, path, depth) AS (
        SELECT f.id, f.parent_id, '/' || f.name, 1 FROM folder f WHERE f.id = folder
        UNION ALL
        SELECT f.id, f.parent_id, '/' || f.name || up.path, up.depth + 1 FROM folder f JOIN up ON f.id = up.parent_id WHERE up.depth < 1000
    ) SELECT path FROM up ORDER BY depth DESC LIMIT 1);
END $$;
