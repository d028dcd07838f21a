-- What belongs to a credential belongs to its organisation, and a credential to that of its folder: a
-- key over both columns says so in one look, where two keys took two and left the two free to differ
-- (promise 5).
ALTER TABLE folder ADD CONSTRAINT folder_of_organisation UNIQUE (organisation, id);
ALTER TABLE credential ADD CONSTRAINT credential_of_organisation UNIQUE (organisation, id);
ALTER TABLE credential DROP CONSTRAINT credential_organisation_fkey, DROP CONSTRAINT credential_folder_id_fkey,
    ADD CONSTRAINT credential_folder FOREIGN KEY (organisation, folder_id) REFERENCES folder (organisation, id);
DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['secret_version', 'judgement', 'import_row'] LOOP
        EXECUTE format('ALTER TABLE %1$I DROP CONSTRAINT %1$s_organisation_fkey, DROP CONSTRAINT %1$s_credential_id_fkey,
            ADD CONSTRAINT %1$s_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential (organisation, id)', t);
    END LOOP;
END $$;

-- After many rows have come at once: what the planner knows of the tables, as before, and the words of
-- all of them put into the index together, which an import has kept beside it meanwhile
-- (`gin_pending_list_limit`).
CREATE OR REPLACE FUNCTION note_growth() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    PERFORM gin_clean_pending_list('credential_search'), gin_clean_pending_list('credential_tags');
    ANALYZE credential, secret_version, judgement, folder, folder_source;
END $$;
