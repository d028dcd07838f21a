-- Whether somebody who may see a credential's values may see former ones too.
CREATE OR REPLACE FUNCTION history_of(person uuid, credential uuid, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN EXISTS (SELECT FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects))
          AND (g.ends_at IS NULL OR at < g.ends_at) AND g.history AND g.held >= 3
          AND (g.credential_id = credential
               OR g.folder_id IN (SELECT s.source_id FROM folder_source s JOIN credential c ON c.folder_id = s.folder_id
                                  WHERE c.id = credential AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags)))));
END $$;
