-- Folders, credentials and their values, kinds, attachments, the bin, imports.

CREATE TABLE folder (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    parent_id uuid,
    name text NOT NULL,
    closed boolean DEFAULT false NOT NULL,
    created_at timestamptz NOT NULL,
    created_by uuid,
    removed_at timestamptz,
    revision integer DEFAULT 1 NOT NULL,
    removal_id uuid,
    CONSTRAINT folder_pkey PRIMARY KEY (id),
    CONSTRAINT folder_of_organisation UNIQUE (organisation, id),
    CONSTRAINT folder_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT folder_parent_id_fkey FOREIGN KEY (parent_id) REFERENCES folder(id),
    CONSTRAINT folder_created_by_fkey FOREIGN KEY (created_by) REFERENCES person(id)
);
CREATE UNIQUE INDEX folder_name ON folder (organisation, parent_id, lower(name)) NULLS NOT DISTINCT WHERE (removed_at IS NULL);
CREATE INDEX folder_parent ON folder (parent_id);
CREATE INDEX folder_search ON folder USING gin (lower(name) gin_trgm_ops);
CREATE INDEX folder_removal ON folder (removal_id) WHERE (removal_id IS NOT NULL);
ALTER TABLE folder ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON folder USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON folder TO jexlin_service;

-- The folders from which grants flow into a folder: itself and those above, up to and including
-- the first closed one. Derived from `folder`; `refresh_sources` keeps it.
CREATE TABLE folder_source (
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    source_id uuid NOT NULL,
    CONSTRAINT folder_source_pkey PRIMARY KEY (folder_id, source_id),
    CONSTRAINT folder_source_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT folder_source_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id) ON DELETE CASCADE,
    CONSTRAINT folder_source_source_id_fkey FOREIGN KEY (source_id) REFERENCES folder(id) ON DELETE CASCADE
);
CREATE INDEX folder_source_source ON folder_source (source_id, folder_id);
ALTER TABLE folder_source ENABLE ROW LEVEL SECURITY;
ALTER TABLE folder_source FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON folder_source USING (organisation = (SELECT scope()));
CREATE POLICY found ON folder_source FOR SELECT TO CURRENT_USER USING (true);
GRANT INSERT, SELECT, UPDATE, DELETE ON folder_source TO jexlin_service;

-- How many credentials that are not removed are in each folder: the sum of what was noted each time
-- that some came or went. Notes are only added, so that nobody waits for anybody; `sum_credential_counts` makes
-- one of many.
CREATE TABLE folder_count (
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    credentials bigint NOT NULL
);
CREATE INDEX folder_count_folder ON folder_count (folder_id);
ALTER TABLE folder_count ENABLE ROW LEVEL SECURITY;
ALTER TABLE folder_count FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON folder_count USING (organisation = (SELECT scope()));
GRANT SELECT ON folder_count TO jexlin_service;

CREATE TABLE device (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    name text NOT NULL,
    connector text NOT NULL,
    address text NOT NULL,
    port integer NOT NULL,
    created_at timestamptz NOT NULL,
    removed_at timestamptz,
    revision integer DEFAULT 1 NOT NULL,
    removal_id uuid,
    -- Which identities a device may prove, one a line; and whether it is left alone because it refuses its
    -- operator.
    identity text DEFAULT '' NOT NULL,
    paused_at timestamptz,
    paused_why text DEFAULT '' NOT NULL,
    CONSTRAINT device_pkey PRIMARY KEY (id),
    CONSTRAINT device_of_organisation UNIQUE (organisation, id),
    CONSTRAINT device_connector_check CHECK (connector = 'ssh'),
    CONSTRAINT device_port_check CHECK ((port >= 1) AND (port <= 65535)),
    CONSTRAINT device_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT device_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id)
);
CREATE UNIQUE INDEX device_name ON device (organisation, folder_id, lower(name)) WHERE (removed_at IS NULL);
CREATE INDEX device_search ON device USING gin (lower(((name || ' ') || address)) gin_trgm_ops);
CREATE INDEX device_removal ON device (removal_id) WHERE (removal_id IS NOT NULL);
ALTER TABLE device ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON device USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON device TO jexlin_service;

CREATE TABLE credential (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    kind text NOT NULL,
    name text NOT NULL,
    fields jsonb NOT NULL,
    device_id uuid,
    data_key bytea NOT NULL,
    created_at timestamptz NOT NULL,
    created_by uuid,
    changed_at timestamptz NOT NULL,
    changed_by uuid,
    removed_at timestamptz,
    revision integer DEFAULT 1 NOT NULL,
    removal_id uuid,
    purged_at timestamptz,
    -- Fields that one credential alone has, and its tags.
    extra jsonb DEFAULT '[]'::jsonb NOT NULL,
    tags text[] DEFAULT '{}'::text[] NOT NULL,
    search text GENERATED ALWAYS AS (searchable(name, fields, tags)) STORED,
    -- By which of the organisation's keys: a data key is wrapped, an event is authenticated.
    key_number integer DEFAULT 1 NOT NULL,
    CONSTRAINT credential_pkey PRIMARY KEY (id),
    CONSTRAINT credential_of_organisation UNIQUE (organisation, id),
    CONSTRAINT credential_device_id_fkey FOREIGN KEY (device_id) REFERENCES device(id),
    CONSTRAINT credential_created_by_fkey FOREIGN KEY (created_by) REFERENCES person(id),
    CONSTRAINT credential_changed_by_fkey FOREIGN KEY (changed_by) REFERENCES person(id),
    CONSTRAINT credential_folder FOREIGN KEY (organisation, folder_id) REFERENCES folder(organisation, id)
);
CREATE UNIQUE INDEX credential_name ON credential (organisation, folder_id, lower(name)) WHERE (removed_at IS NULL);
CREATE INDEX credential_order ON credential (organisation, lower(name), id) WHERE (removed_at IS NULL);
CREATE INDEX credential_folder_order ON credential (folder_id, lower(name), id) WHERE (removed_at IS NULL);
CREATE INDEX credential_device ON credential (device_id) WHERE (removed_at IS NULL);
CREATE INDEX credential_removal ON credential (removal_id) WHERE (removal_id IS NOT NULL);
CREATE INDEX credential_tags ON credential USING gin (tags) WHERE (removed_at IS NULL);
CREATE INDEX credential_search ON credential USING gin (search gin_trgm_ops);
-- What a filter looks up.
CREATE INDEX credential_kind ON credential (organisation, kind) WHERE (removed_at IS NULL);
CREATE INDEX credential_expires ON credential (organisation) WHERE ((removed_at IS NULL) AND (fields ? 'expires'));
ALTER TABLE credential ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON credential USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON credential TO jexlin_service;
GRANT UPDATE (folder_id, kind, name, fields, data_key, changed_at, changed_by, removed_at, revision, removal_id, purged_at, extra, tags, key_number) ON credential TO jexlin_service;

CREATE TABLE secret_version (
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    field text NOT NULL,
    number integer NOT NULL,
    state text NOT NULL,
    sealed bytea NOT NULL,
    made_at timestamptz NOT NULL,
    made_by uuid,
    made_how text NOT NULL,
    -- Why a value was set, and what everybody may know of it (the public half of a key, when a
    -- certificate ends, that codes of a seed count up).
    reason text DEFAULT '' NOT NULL,
    facts jsonb DEFAULT '{}'::jsonb NOT NULL,
    -- The fingerprints of former values, so that one of the last can be told without opening them.
    fingerprint bytea,
    -- When a password was last sent to a device without an answer that was acted on.
    unanswered_at timestamptz,
    CONSTRAINT secret_version_pkey PRIMARY KEY (credential_id, field, number),
    CONSTRAINT secret_version_state_check CHECK (state IN ('candidate', 'current', 'previous', 'discarded')),
    CONSTRAINT secret_version_made_how_check CHECK (made_how IN ('typed', 'generated', 'rotated', 'imported', 'restored')),
    CONSTRAINT secret_version_made_by_fkey FOREIGN KEY (made_by) REFERENCES person(id),
    CONSTRAINT secret_version_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id)
);
CREATE UNIQUE INDEX secret_version_current ON secret_version (credential_id, field) WHERE (state = 'current');
CREATE UNIQUE INDEX secret_version_candidate ON secret_version (credential_id, field) WHERE (state = 'candidate');
CREATE INDEX secret_version_unanswered ON secret_version (credential_id) WHERE (unanswered_at IS NOT NULL);
ALTER TABLE secret_version ENABLE ROW LEVEL SECURITY;
ALTER TABLE secret_version FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON secret_version USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON secret_version TO jexlin_service;

-- How often codes that count up were asked for, by the version of the seed.
CREATE TABLE one_time_counter (
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    number integer NOT NULL,
    counter bigint NOT NULL,
    CONSTRAINT one_time_counter_pkey PRIMARY KEY (credential_id, number),
    CONSTRAINT one_time_counter_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT one_time_counter_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id)
);
ALTER TABLE one_time_counter ENABLE ROW LEVEL SECURITY;
ALTER TABLE one_time_counter FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON one_time_counter USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON one_time_counter TO jexlin_service;

-- Kinds of an organisation's own.
CREATE TABLE kind (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    name text NOT NULL,
    label text NOT NULL,
    fields jsonb NOT NULL,
    generates boolean NOT NULL,
    retired_at timestamptz,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT kind_pkey PRIMARY KEY (id),
    CONSTRAINT kind_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
CREATE UNIQUE INDEX kind_name ON kind (organisation, name);
ALTER TABLE kind ENABLE ROW LEVEL SECURITY;
ALTER TABLE kind FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON kind USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON kind TO jexlin_service;

-- Files that belong to a credential, sealed piece by piece under its data key.
CREATE TABLE attachment (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    name text NOT NULL,
    size bigint NOT NULL,
    pieces integer NOT NULL,
    made_at timestamptz NOT NULL,
    made_by uuid,
    -- When something of a file was heard last that is still on its way; nothing once it is whole.
    heard_at timestamptz,
    -- Attachments go to the bin, too.
    removed_at timestamptz,
    removal_id uuid,
    CONSTRAINT attachment_pkey PRIMARY KEY (id),
    CONSTRAINT attachment_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT attachment_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT attachment_made_by_fkey FOREIGN KEY (made_by) REFERENCES person(id)
);
CREATE INDEX attachment_arriving ON attachment (organisation, heard_at) WHERE (heard_at IS NOT NULL);
CREATE INDEX attachment_removal ON attachment (removal_id) WHERE (removal_id IS NOT NULL);
CREATE UNIQUE INDEX attachment_name ON attachment (credential_id, lower(name)) WHERE ((heard_at IS NULL) AND (removed_at IS NULL));
ALTER TABLE attachment ENABLE ROW LEVEL SECURITY;
ALTER TABLE attachment FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON attachment USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON attachment TO jexlin_service;

CREATE TABLE attachment_piece (
    organisation uuid NOT NULL,
    attachment_id uuid NOT NULL,
    number integer NOT NULL,
    sealed bytea NOT NULL,
    CONSTRAINT attachment_piece_pkey PRIMARY KEY (attachment_id, number),
    CONSTRAINT attachment_piece_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT attachment_piece_attachment_id_fkey FOREIGN KEY (attachment_id) REFERENCES attachment(id) ON DELETE CASCADE
);
-- Sealed bytes do not compress.
ALTER TABLE attachment_piece ALTER COLUMN sealed SET STORAGE EXTERNAL;
ALTER TABLE attachment_piece ENABLE ROW LEVEL SECURITY;
ALTER TABLE attachment_piece FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON attachment_piece USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON attachment_piece TO jexlin_service;

-- One act of removing: a credential, a device, or a folder with all that is in it.
CREATE TABLE removal (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    target_type text NOT NULL,
    target uuid NOT NULL,
    -- Where it was, for the list of what is in the bin.
    path text NOT NULL,
    folder_id uuid NOT NULL,
    credentials integer NOT NULL,
    removed_at timestamptz NOT NULL,
    removed_by uuid,
    restored_at timestamptz,
    purged_at timestamptz,
    CONSTRAINT removal_pkey PRIMARY KEY (id),
    CONSTRAINT removal_target_type CHECK (target_type IN ('credential', 'device', 'folder', 'import', 'attachment')),
    CONSTRAINT removal_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT removal_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT removal_removed_by_fkey FOREIGN KEY (removed_by) REFERENCES person(id)
);
CREATE INDEX removal_waiting ON removal (organisation, removed_at DESC, id DESC) WHERE ((restored_at IS NULL) AND (purged_at IS NULL));
ALTER TABLE removal ENABLE ROW LEVEL SECURITY;
ALTER TABLE removal FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON removal USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON removal TO jexlin_service;
ALTER TABLE folder ADD CONSTRAINT folder_removal_id_fkey FOREIGN KEY (removal_id) REFERENCES removal(id);
ALTER TABLE device ADD CONSTRAINT device_removal_id_fkey FOREIGN KEY (removal_id) REFERENCES removal(id);
ALTER TABLE credential ADD CONSTRAINT credential_removal_id_fkey FOREIGN KEY (removal_id) REFERENCES removal(id);
ALTER TABLE attachment ADD CONSTRAINT attachment_removal_id_fkey FOREIGN KEY (removal_id) REFERENCES removal(id);

CREATE TABLE favourite (
    organisation uuid NOT NULL,
    person_id uuid NOT NULL,
    credential_id uuid NOT NULL,
    CONSTRAINT favourite_pkey PRIMARY KEY (person_id, credential_id),
    CONSTRAINT favourite_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT favourite_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT favourite_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id)
);
ALTER TABLE favourite ENABLE ROW LEVEL SECURITY;
ALTER TABLE favourite FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON favourite USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON favourite TO jexlin_service;

CREATE TABLE saved_search (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    person_id uuid NOT NULL,
    name text NOT NULL,
    body jsonb NOT NULL,
    CONSTRAINT saved_search_pkey PRIMARY KEY (id),
    CONSTRAINT saved_search_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT saved_search_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id)
);
CREATE UNIQUE INDEX saved_search_name ON saved_search (person_id, lower(name));
ALTER TABLE saved_search ENABLE ROW LEVEL SECURITY;
ALTER TABLE saved_search FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON saved_search USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON saved_search TO jexlin_service;

-- Imports at once, to be taken back at once.
CREATE TABLE import (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    name text NOT NULL,
    folder_id uuid NOT NULL,
    made_at timestamptz NOT NULL,
    made_by uuid,
    added integer NOT NULL,
    updated integer NOT NULL,
    skipped integer NOT NULL,
    undone_at timestamptz,
    CONSTRAINT import_pkey PRIMARY KEY (id),
    CONSTRAINT import_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT import_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT import_made_by_fkey FOREIGN KEY (made_by) REFERENCES person(id)
);
CREATE INDEX import_made ON import (organisation, made_at DESC, id DESC);
ALTER TABLE import ENABLE ROW LEVEL SECURITY;
ALTER TABLE import FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON import USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON import TO jexlin_service;

-- What it did to a credential: `former` is nothing for one that it added, else what it had before:
-- its plain fields, its tags, the numbers of the secrets that were current, and the revision after.
CREATE TABLE import_row (
    import_id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    former jsonb,
    CONSTRAINT import_row_pkey PRIMARY KEY (import_id, credential_id),
    CONSTRAINT import_row_import_id_fkey FOREIGN KEY (import_id) REFERENCES import(id),
    CONSTRAINT import_row_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id)
);
ALTER TABLE import_row ENABLE ROW LEVEL SECURITY;
ALTER TABLE import_row FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON import_row USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON import_row TO jexlin_service;
