-- Grants, access requests, and the notes by which services keep their index of access.

-- `grant` and `level` are words of SQL; the columns are named so that nothing needs quotes.
CREATE TABLE access_grant (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid,
    credential_id uuid,
    person_id uuid,
    group_id uuid,
    held smallint NOT NULL,
    ends_at timestamptz,
    note text DEFAULT '' NOT NULL,
    created_at timestamptz NOT NULL,
    created_by uuid,
    -- Sharing: grants for a part of what is in a folder, with or without former values.
    -- Narrowed to a kind, a tag, or both, a grant on a folder reaches what fits of the credentials that
    -- it flows to, and no folder: whoever holds it walks down to what fits.
    only_kind text,
    only_tag text,
    -- Whether it lets its holder see former values, if it lets them see values at all.
    history boolean DEFAULT true NOT NULL,
    -- Two people who change the terms of one grant do not undo each other's change unseen.
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT access_grant_pkey PRIMARY KEY (id),
    CONSTRAINT access_grant_held_check CHECK ((held >= 1) AND (held <= 5)),
    CONSTRAINT access_grant_check CHECK (num_nonnulls(folder_id, credential_id) = 1),
    CONSTRAINT access_grant_check1 CHECK (num_nonnulls(person_id, group_id) = 1),
    CONSTRAINT access_grant_check2 CHECK ((folder_id IS NOT NULL) OR ((only_kind IS NULL) AND (only_tag IS NULL))),
    CONSTRAINT access_grant_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT access_grant_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT access_grant_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT access_grant_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT access_grant_group_id_fkey FOREIGN KEY (group_id) REFERENCES people_group(id),
    CONSTRAINT access_grant_created_by_fkey FOREIGN KEY (created_by) REFERENCES person(id)
);
CREATE INDEX access_grant_person ON access_grant (person_id, folder_id, credential_id) WHERE (person_id IS NOT NULL);
CREATE INDEX access_grant_group ON access_grant (group_id, folder_id, credential_id) WHERE (group_id IS NOT NULL);
CREATE INDEX access_grant_credential ON access_grant (credential_id) WHERE (credential_id IS NOT NULL);
CREATE INDEX access_grant_folder ON access_grant (folder_id) WHERE (folder_id IS NOT NULL);
CREATE UNIQUE INDEX access_grant_once ON access_grant (folder_id, credential_id, person_id, group_id, only_kind, only_tag) NULLS NOT DISTINCT;
CREATE INDEX access_grant_creator ON access_grant (created_by);
CREATE INDEX access_grant_narrowed ON access_grant (folder_id) WHERE ((only_kind IS NOT NULL) OR (only_tag IS NOT NULL));
ALTER TABLE access_grant ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_grant FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON access_grant USING (organisation = (SELECT scope()));
CREATE POLICY found ON access_grant FOR SELECT TO CURRENT_USER USING (true);
GRANT INSERT, SELECT, UPDATE, DELETE ON access_grant TO jexlin_service;

-- An access request: somebody asks the stewards of something of which they see the name alone for a level on it.
CREATE TABLE access_request (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    person_id uuid NOT NULL,
    held smallint NOT NULL,
    reason text NOT NULL,
    state text NOT NULL,
    asked_at timestamptz NOT NULL,
    decided_at timestamptz,
    decided_by uuid,
    comment text DEFAULT '' NOT NULL,
    CONSTRAINT access_request_pkey PRIMARY KEY (id),
    CONSTRAINT access_request_held_check CHECK ((held >= 1) AND (held <= 4)),
    CONSTRAINT access_request_state_check CHECK (state IN ('waiting', 'granted', 'refused', 'withdrawn')),
    CONSTRAINT access_request_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT access_request_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT access_request_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT access_request_decided_by_fkey FOREIGN KEY (decided_by) REFERENCES person(id)
);
CREATE UNIQUE INDEX access_request_once ON access_request (credential_id, person_id) WHERE (state = 'waiting');
CREATE INDEX access_request_recent ON access_request (organisation, asked_at DESC, id DESC);
ALTER TABLE access_request ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_request FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON access_request USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON access_request TO jexlin_service;

-- What access depends on is kept by the service in a form for quick questions (the index). What
-- changes is noted here with its transaction, so that the service can tell whether what it keeps is
-- what is, and read again only what is not. Notes are only added: nobody waits for anybody.
--
-- Numbers handed out one after the other would not do: a transaction with a lower number may commit
-- after one with a higher. A snapshot of PostgreSQL says of every transaction whether it was done, so
-- "what I have not seen" is exact.
CREATE TABLE access_note (
    organisation uuid NOT NULL,
    xid xid8 DEFAULT pg_current_xact_id() NOT NULL,
    target_type text NOT NULL,
    id uuid NOT NULL,
    CONSTRAINT access_note_target_type_check CHECK (target_type IN ('folder', 'grant', 'member', 'group', 'person', 'single'))
);
CREATE INDEX access_note_xid ON access_note (organisation, xid);
ALTER TABLE access_note ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_note FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON access_note TO CURRENT_USER USING (organisation = (SELECT scope()));

-- Notes of transactions before `gone_before` are no longer there; `next` is where that goes to.
CREATE TABLE access_floor (
    organisation uuid NOT NULL,
    gone_before xid8 NOT NULL,
    next xid8 NOT NULL,
    CONSTRAINT access_floor_pkey PRIMARY KEY (organisation),
    CONSTRAINT access_floor_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE access_floor ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_floor FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON access_floor TO CURRENT_USER USING (organisation = (SELECT scope()));
