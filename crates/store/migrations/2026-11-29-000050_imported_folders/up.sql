-- The folders that an import added, so that undoing it takes away those that are empty.
CREATE TABLE import_folder (
    import_id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    CONSTRAINT import_folder_pkey PRIMARY KEY (import_id, folder_id),
    CONSTRAINT import_folder_import_id_fkey FOREIGN KEY (import_id) REFERENCES import(id),
    CONSTRAINT import_folder_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id)
);
CREATE INDEX import_folder_folder ON import_folder (folder_id);
ALTER TABLE import_folder ENABLE ROW LEVEL SECURITY;
ALTER TABLE import_folder FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON import_folder USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON import_folder TO jexlin_service;

-- An import adds its folders last, so that those who move or close one wait only for that.
ALTER TABLE credential ALTER CONSTRAINT credential_folder DEFERRABLE INITIALLY IMMEDIATE;
