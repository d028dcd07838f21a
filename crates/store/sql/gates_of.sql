-- All gates on the way from the top to a credential, closed folders or not, and on the way to the device
-- whose account it is the password of, the device's own included.
CREATE OR REPLACE FUNCTION gates_of(credential uuid)
    RETURNS uuid[]
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN coalesce((
        WITH RECURSIVE it AS MATERIALIZED (
            SELECT c.id, c.folder_id, c.device_id, d.folder_id AS device_folder FROM credential c LEFT JOIN device d ON d.id = c.device_id WHERE c.id = credential
        ), up(id) AS (
            SELECT it.folder_id FROM it
            UNION
            SELECT it.device_folder FROM it WHERE it.device_folder IS NOT NULL
            UNION
            SELECT f.parent_id FROM folder f JOIN up ON f.id = up.id WHERE f.parent_id IS NOT NULL
        )
        SELECT array_agg(g.id ORDER BY g.id) FROM gate g
        WHERE g.credential_id = credential OR g.device_id = (SELECT it.device_id FROM it) OR g.folder_id IN (SELECT up.id FROM up)), '{}');
END $$;
