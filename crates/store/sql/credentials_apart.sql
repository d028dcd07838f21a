-- Credentials that have grants or a gate of their own, or are named by folder and name.
CREATE OR REPLACE FUNCTION credentials_apart(folders uuid[], names text[])
    RETURNS TABLE(id uuid, name text, folder_id uuid)
    LANGUAGE sql
    STABLE
AS $$
    SELECT c.id, c.name, c.folder_id FROM credential c
    WHERE c.removed_at IS NULL AND c.id IN (
        SELECT g.credential_id FROM access_grant g WHERE g.credential_id IS NOT NULL
        UNION SELECT g.credential_id FROM gate g WHERE g.credential_id IS NOT NULL
        UNION SELECT n.id FROM credential n JOIN unnest($1, $2) AS t(folder, name) ON n.folder_id = t.folder AND n.name = t.name WHERE n.removed_at IS NULL)
$$;
