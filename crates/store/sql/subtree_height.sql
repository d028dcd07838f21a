-- How many folders are below each other in a folder, itself counted.
CREATE OR REPLACE FUNCTION subtree_height(top uuid)
    RETURNS integer
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE down(id, height) AS (
        SELECT $1, 1
        UNION ALL
        SELECT f.id, down.height + 1 FROM down JOIN folder f ON f.parent_id = down.id WHERE f.removed_at IS NULL AND down.height < 1000
    )
    SELECT max(height) FROM down
$$;
