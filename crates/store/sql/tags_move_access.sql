-- Whether a change of these tags on something in a folder changes whom a narrowed grant reaches.
CREATE OR REPLACE FUNCTION tags_move_access(folder uuid, changed text[], at timestamp with time zone)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN EXISTS (SELECT FROM access_grant g WHERE g.only_tag = ANY (changed) AND (g.ends_at IS NULL OR at < g.ends_at)
        AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;
