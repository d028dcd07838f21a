-- Moves the devices that an import added to the bin as part of a removal: those that no credential is an
-- account or the operator of, that have no other account families, and that somebody is a steward of.
CREATE OR REPLACE FUNCTION remove_imported_devices(import uuid, removed_by uuid, removal uuid, now timestamp with time zone)
    RETURNS integer
    LANGUAGE plpgsql
AS $$
DECLARE
    total integer;
BEGIN
    UPDATE device d SET removed_at = $4, removal_id = $3, revision = d.revision + 1
    WHERE d.import_id = $1 AND d.removed_at IS NULL AND level_on_folder($2, d.folder_id, $4) = 5
      AND NOT EXISTS (SELECT FROM binding b JOIN credential c ON c.id = b.credential_id
                      WHERE b.device_id = d.id AND c.removed_at IS NULL)
      AND NOT EXISTS (SELECT FROM device f WHERE f.family_of = d.id AND f.removed_at IS NULL)
      AND NOT EXISTS (SELECT FROM device b WHERE b.jump_host_id = d.id AND b.removed_at IS NULL);
    GET DIAGNOSTICS total = ROW_COUNT;
    RETURN total;
END $$;
