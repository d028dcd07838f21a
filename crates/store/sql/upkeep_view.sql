-- What upkeep knows of a credential that is on a device, with the names that people know.
CREATE OR REPLACE VIEW upkeep_view WITH (security_invoker=true) AS
    SELECT c.id AS credential_id, c.name AS credential_name, coalesce(path_of(c.folder_id), '') AS place, d.name AS device_name, a.next_check_at, a.next_rotation_at,
           a.checked_at, a.check_outcome, a.rotated_at, a.rotation_outcome, a.rotation_owed_at
    FROM account a
    JOIN credential c ON c.id = a.credential_id
    JOIN device d ON d.id = a.device_id
    WHERE c.removed_at IS NULL;
GRANT SELECT ON upkeep_view TO jexlin_service;
