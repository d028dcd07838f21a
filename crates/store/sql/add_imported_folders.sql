-- Adds folders and notes that an import did. Their sources are worked out by refresh_sources_of.
CREATE OR REPLACE FUNCTION add_imported_folders(import uuid, ids uuid[], parents uuid[], names text[], at timestamp with time zone, added_by uuid)
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    INSERT INTO folder (id, organisation, parent_id, name, closed, created_at, created_by, revision)
    SELECT new.id, scope(), new.parent, new.name, false, $5, $6, 1 FROM unnest($2, $3, $4) AS new(id, parent, name);
    INSERT INTO import_folder (import_id, organisation, folder_id) SELECT $1, scope(), id FROM unnest($2) AS new(id);
END $$;
