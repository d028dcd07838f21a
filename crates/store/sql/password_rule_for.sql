-- The rule that counts for the passwords in a folder: its own, else that of the nearest folder above.
CREATE OR REPLACE FUNCTION password_rule_for(folder uuid)
    RETURNS TABLE(folder_id uuid, organisation uuid, mode text, policies uuid[])
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE up(id, parent_id, depth) AS (
        SELECT f.id, f.parent_id, 0 FROM folder f WHERE f.id = $1
        UNION ALL
        SELECT f.id, f.parent_id, up.depth + 1 FROM folder f JOIN up ON f.id = up.parent_id WHERE up.depth < 1000
    )
    SELECT r.folder_id, r.organisation, r.mode, r.policies FROM up JOIN password_rule r ON r.folder_id = up.id ORDER BY up.depth LIMIT 1
$$;
