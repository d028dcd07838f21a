-- What belongs to a folder is tied to it and to its organisation by one key instead of two.
ALTER TABLE folder
    DROP CONSTRAINT folder_parent_id_fkey,
    ADD CONSTRAINT folder_parent FOREIGN KEY (organisation, parent_id) REFERENCES folder(organisation, id);
ALTER TABLE folder_source
    DROP CONSTRAINT folder_source_organisation_fkey,
    DROP CONSTRAINT folder_source_folder_id_fkey,
    DROP CONSTRAINT folder_source_source_id_fkey,
    ADD CONSTRAINT folder_source_folder FOREIGN KEY (organisation, folder_id) REFERENCES folder(organisation, id) ON DELETE CASCADE,
    ADD CONSTRAINT folder_source_source FOREIGN KEY (organisation, source_id) REFERENCES folder(organisation, id) ON DELETE CASCADE;

-- A folder knows the import that added it, so that undoing that takes it away if it is empty.
ALTER TABLE folder ADD COLUMN import_id uuid;
-- As the owner, of all organisations.
ALTER TABLE folder DISABLE TRIGGER USER;
ALTER TABLE import NO FORCE ROW LEVEL SECURITY;
ALTER TABLE import_folder NO FORCE ROW LEVEL SECURITY;
UPDATE folder f SET import_id = i.import_id FROM import_folder i WHERE i.folder_id = f.id;
ALTER TABLE folder ENABLE TRIGGER USER;
DROP TABLE import_folder;
ALTER TABLE folder ADD CONSTRAINT folder_import_id_fkey FOREIGN KEY (import_id) REFERENCES import(id);
ALTER TABLE import FORCE ROW LEVEL SECURITY;
CREATE INDEX folder_import ON folder (import_id) WHERE import_id IS NOT NULL;
