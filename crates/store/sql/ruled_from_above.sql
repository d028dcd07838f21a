-- The credentials in a folder and below it for which the password rule comes from above it: a folder with
-- a rule of its own keeps it wherever it goes.
CREATE OR REPLACE FUNCTION ruled_from_above(folder uuid)
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE down(id) AS (
        SELECT f.id FROM folder f WHERE f.id = $1 AND NOT EXISTS (SELECT FROM password_rule r WHERE r.folder_id = f.id)
        UNION ALL
        SELECT f.id FROM down JOIN folder f ON f.parent_id = down.id
        WHERE f.removed_at IS NULL AND NOT EXISTS (SELECT FROM password_rule r WHERE r.folder_id = f.id)
    )
    SELECT c.id FROM down JOIN credential c ON c.folder_id = down.id WHERE c.removed_at IS NULL ORDER BY c.id
$$;
