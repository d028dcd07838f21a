-- Whether a grant that reaches somebody on a folder lets them see former values there.
CREATE OR REPLACE FUNCTION history_on_folder(person uuid, folder uuid, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN EXISTS (SELECT FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects)) AND (g.ends_at IS NULL OR at < g.ends_at) AND g.history AND g.held >= 3
          AND g.only_kind IS NULL AND g.only_tag IS NULL AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;
