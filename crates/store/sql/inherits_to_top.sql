-- Whether grants from far above reach a folder: neither it nor any above it is closed.
CREATE OR REPLACE FUNCTION inherits_to_top(folder uuid)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN EXISTS (SELECT FROM folder_source s JOIN folder f ON f.id = s.source_id WHERE s.folder_id = folder AND f.parent_id IS NULL AND NOT f.closed);
END $$;
