CREATE OR REPLACE FUNCTION level_on_folder(person uuid, folder uuid, at timestamp with time zone)
    RETURNS smallint
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN (SELECT max(g.held) FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects))
          AND (g.ends_at IS NULL OR at < g.ends_at) AND g.only_kind IS NULL AND g.only_tag IS NULL
          AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;
