-- Moves the folders that an import added to the bin as part of a removal: those with nothing in them
-- that somebody is a steward of. From the deepest up, so that one that only held others goes, too.
CREATE OR REPLACE FUNCTION remove_imported_folders(import uuid, removed_by uuid, removal uuid, now timestamp with time zone)
    RETURNS integer
    LANGUAGE plpgsql
AS $$
DECLARE
    here integer;
    total integer := 0;
BEGIN
    LOOP
        UPDATE folder f SET removed_at = $4, removal_id = $3, revision = f.revision + 1
        WHERE f.import_id = $1 AND f.removed_at IS NULL AND level_on_folder($2, f.id, $4) = 5
          AND NOT EXISTS (SELECT FROM credential c WHERE c.folder_id = f.id AND c.removed_at IS NULL)
          AND NOT EXISTS (SELECT FROM device d WHERE d.folder_id = f.id AND d.removed_at IS NULL)
          AND NOT EXISTS (SELECT FROM folder below WHERE below.parent_id = f.id AND below.removed_at IS NULL);
        GET DIAGNOSTICS here = ROW_COUNT;
        EXIT WHEN here = 0;
        total := total + here;
    END LOOP;
    RETURN total;
END $$;
