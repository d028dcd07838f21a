-- Adds folders of an import, and from where grants flow into each: from itself and the new ones above
-- it, as (folders, sources) says, and from whatever flows into the one that is there already and holds them,
-- as (placed, places) says. That takes no look at the tree above each.
DROP FUNCTION IF EXISTS add_imported_folders(uuid,uuid[],uuid[],text[],timestamp with time zone,uuid);
CREATE OR REPLACE FUNCTION add_imported_folders(import uuid, ids uuid[], parents uuid[], names text[], at timestamp with time zone, added_by uuid,
    folders uuid[], sources uuid[], placed uuid[], places uuid[])
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    INSERT INTO folder (id, organisation, parent_id, name, closed, created_at, created_by, revision, import_id)
    SELECT new.id, scope(), new.parent, new.name, false, $5, $6, 1, $1 FROM unnest($2, $3, $4) AS new(id, parent, name);
    INSERT INTO folder_source (organisation, folder_id, source_id)
    SELECT scope(), new.folder, new.source FROM unnest($7, $8) AS new(folder, source)
    UNION ALL
    SELECT scope(), new.folder, s.source_id FROM unnest($9, $10) AS new(folder, held) JOIN folder_source s ON s.folder_id = new.held;
END $$;
