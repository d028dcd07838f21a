-- Whether a credential may be used as the operator of a device: the device or a folder above it is named.
CREATE OR REPLACE FUNCTION in_operator_scope(credential uuid, device uuid)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN EXISTS (
        WITH RECURSIVE up(id, parent_id) AS (
            SELECT f.id, f.parent_id FROM device d JOIN folder f ON f.id = d.folder_id WHERE d.id = device
            UNION
            SELECT f.id, f.parent_id FROM folder f JOIN up ON f.id = up.parent_id
        ) SELECT FROM operator_scope o WHERE o.credential_id = credential AND (o.device_id = device OR o.folder_id IN (SELECT id FROM up)));
END $$;
