-- The level that reaches a person on a credential, 1 to 5; null: none. Folders likewise.
CREATE OR REPLACE FUNCTION level_on_credential(person uuid, credential uuid, at timestamp with time zone)
    RETURNS smallint
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN (SELECT max(g.held) FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects))
          AND (g.ends_at IS NULL OR at < g.ends_at)
          AND (g.credential_id = credential
               OR g.folder_id IN (SELECT s.source_id FROM folder_source s JOIN credential c ON c.folder_id = s.folder_id
                                  WHERE c.id = credential AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags)))));
END $$;
