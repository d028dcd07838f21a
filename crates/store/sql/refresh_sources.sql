-- Recomputes the sources of a folder and all below it.
CREATE OR REPLACE FUNCTION refresh_sources(top uuid)
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    DELETE FROM folder_source WHERE folder_id IN (SELECT subtree_of(top));
    WITH RECURSIVE below AS MATERIALIZED (SELECT subtree_of(top) AS id),
    up(folder_id, source_id, closed, parent_id) AS (
        SELECT f.id, f.id, f.closed, f.parent_id FROM folder f JOIN below b ON b.id = f.id
        UNION
        SELECT up.folder_id, f.id, f.closed, f.parent_id FROM up JOIN folder f ON f.id = up.parent_id WHERE NOT up.closed
    )
    INSERT INTO folder_source (organisation, folder_id, source_id) SELECT scope(), folder_id, source_id FROM up;
END $$;
