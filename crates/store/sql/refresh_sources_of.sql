-- Recomputes the sources of these folders, and of none below them.
CREATE OR REPLACE FUNCTION refresh_sources_of(folders uuid[])
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    DELETE FROM folder_source WHERE folder_id = ANY (folders);
    WITH RECURSIVE up(folder_id, source_id, closed, parent_id) AS (
        SELECT f.id, f.id, f.closed, f.parent_id FROM folder f WHERE f.id = ANY (folders)
        UNION
        SELECT up.folder_id, f.id, f.closed, f.parent_id FROM up JOIN folder f ON f.id = up.parent_id WHERE NOT up.closed
    )
    INSERT INTO folder_source (organisation, folder_id, source_id) SELECT scope(), folder_id, source_id FROM up;
END $$;
