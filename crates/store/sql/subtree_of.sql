CREATE OR REPLACE FUNCTION subtree_of(top uuid)
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE down(id) AS (
        SELECT top
        UNION
        SELECT f.id FROM folder f JOIN down ON f.parent_id = down.id
    ) SELECT id FROM down
$$;
