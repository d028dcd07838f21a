CREATE OR REPLACE FUNCTION gates_on_folder(folder_id uuid)
    RETURNS uuid[]
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE up(id) AS (
        SELECT folder_id
        UNION
        SELECT f.parent_id FROM folder f JOIN up ON f.id = up.id WHERE f.parent_id IS NOT NULL
    )
    SELECT coalesce(array_agg(g.id ORDER BY g.id), '{}') FROM gate g WHERE g.folder_id IN (SELECT up.id FROM up)
$$;
