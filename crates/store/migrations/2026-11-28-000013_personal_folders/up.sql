-- Personal folders.

-- One person's own folder: a random key, sealed under a key that is made from their passphrase and
-- kept nowhere; items sealed whole, names included.
CREATE TABLE personal_folder (
    person_id uuid NOT NULL,
    organisation uuid NOT NULL,
    salt bytea NOT NULL,
    sealed_key bytea NOT NULL,
    made_at timestamptz NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT personal_folder_pkey PRIMARY KEY (person_id),
    CONSTRAINT personal_folder_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT personal_folder_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE personal_folder ENABLE ROW LEVEL SECURITY;
ALTER TABLE personal_folder FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON personal_folder USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON personal_folder TO jexlin_service;

CREATE TABLE personal_item (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    person_id uuid NOT NULL,
    sealed bytea NOT NULL,
    changed_at timestamptz NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT personal_item_pkey PRIMARY KEY (id),
    CONSTRAINT personal_item_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT personal_item_person_id_fkey FOREIGN KEY (person_id) REFERENCES personal_folder(person_id)
);
CREATE INDEX personal_item_person ON personal_item (person_id);
ALTER TABLE personal_item ENABLE ROW LEVEL SECURITY;
ALTER TABLE personal_item FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON personal_item USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON personal_item TO jexlin_service;
