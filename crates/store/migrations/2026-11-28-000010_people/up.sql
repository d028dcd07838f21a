-- Organisations, people, groups, sessions and settings.

-- The role `jexlin_service` must exist; it owns nothing (promise 5). `scope()` and `searchable()` were made
-- before, from crates/store/sql.

-- Search by what resembles what was typed.
CREATE EXTENSION IF NOT EXISTS pg_trgm;

GRANT USAGE ON SCHEMA public TO jexlin_service;

CREATE TABLE organisation (
    id uuid NOT NULL,
    name text NOT NULL,
    wrapped_key bytea NOT NULL,
    log_origin text NOT NULL,
    log_key_sealed bytea NOT NULL,
    log_verifier text NOT NULL,
    created_at timestamptz NOT NULL,
    -- A vault that somebody closed: whichever service has the keys in memory, nothing that leaves an event
    -- is committed until it is opened again, and no secret is opened without its event.
    locked_at timestamptz,
    root_key text DEFAULT '' NOT NULL,
    next_wrapped_key bytea,
    next_root_key text,
    key_number integer DEFAULT 1 NOT NULL,
    former_key bytea,
    CONSTRAINT organisation_pkey PRIMARY KEY (id),
    CONSTRAINT organisation_name_key UNIQUE (name),
    CONSTRAINT organisation_key_number_check CHECK (key_number > 0),
    CONSTRAINT organisation_next_root CHECK ((next_wrapped_key IS NULL) = (next_root_key IS NULL))
);
ALTER TABLE organisation ENABLE ROW LEVEL SECURITY;
ALTER TABLE organisation FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON organisation USING (id = (SELECT scope()));
CREATE POLICY named ON organisation FOR SELECT TO CURRENT_USER USING (true);
GRANT INSERT, SELECT, UPDATE ON organisation TO jexlin_service;

CREATE TABLE person (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    sign_in_name text NOT NULL,
    display_name text NOT NULL,
    password_phc text,
    state text NOT NULL,
    duties text[] DEFAULT '{}'::text[] NOT NULL,
    created_at timestamptz NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    -- Clients are programs that sign in (RFC 6749, section 4.4): subjects of grants as people are, with a
    -- secret of which the hash alone is kept, in place of a password.
    person_type text DEFAULT 'person' NOT NULL,
    secret_hash bytea,
    -- Who made somebody's sign-in, or set their password last.
    sign_in_by uuid,
    CONSTRAINT person_pkey PRIMARY KEY (id),
    CONSTRAINT person_state_check CHECK (state IN ('invited', 'active', 'suspended', 'left')),
    CONSTRAINT person_person_type_check CHECK (person_type IN ('person', 'client')),
    CONSTRAINT person_check CHECK ((person_type = 'client') OR (secret_hash IS NULL)),
    CONSTRAINT person_check1 CHECK ((person_type = 'person') OR (password_phc IS NULL)),
    CONSTRAINT person_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT person_sign_in_by_fkey FOREIGN KEY (sign_in_by) REFERENCES person(id),
    CONSTRAINT person_duties_check CHECK (duties <@ '{people,folders,access,policy,audit,export,recovery}')
);
CREATE UNIQUE INDEX person_sign_in_name ON person (organisation, lower(sign_in_name));
ALTER TABLE person ENABLE ROW LEVEL SECURITY;
ALTER TABLE person FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON person USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON person TO jexlin_service;

CREATE TABLE session (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    person_id uuid NOT NULL,
    token_hash bytea NOT NULL,
    channel text NOT NULL,
    -- How surely whoever signed in is who they say.
    assurance text NOT NULL,
    created_at timestamptz NOT NULL,
    last_used_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    ended_at timestamptz,
    CONSTRAINT session_pkey PRIMARY KEY (id),
    CONSTRAINT session_token_hash_key UNIQUE (token_hash),
    CONSTRAINT session_channel_check CHECK (channel IN ('console', 'client', 'program')),
    CONSTRAINT session_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT session_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT session_assurance_check CHECK (assurance IN ('one-factor', 'two-factors'))
);
CREATE INDEX session_person ON session (person_id) WHERE (ended_at IS NULL);
ALTER TABLE session ENABLE ROW LEVEL SECURITY;
ALTER TABLE session FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON session USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON session TO jexlin_service;

-- From where somebody has signed in: a wrong password that somebody else tries elsewhere does not keep
-- them out here.
CREATE TABLE sign_in_place (
    organisation uuid NOT NULL,
    name text NOT NULL,
    origin text NOT NULL,
    signed_in_at timestamptz NOT NULL,
    CONSTRAINT sign_in_place_pkey PRIMARY KEY (organisation, name, origin),
    CONSTRAINT sign_in_place_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE sign_in_place ENABLE ROW LEVEL SECURITY;
ALTER TABLE sign_in_place FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON sign_in_place USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON sign_in_place TO jexlin_service;

-- Refusals of strangers are counted, and recorded once a minute.
CREATE TABLE stranger_refusal (
    organisation uuid NOT NULL,
    action text NOT NULL,
    since timestamptz NOT NULL,
    count bigint NOT NULL,
    origins text[] DEFAULT '{}'::text[] NOT NULL,
    CONSTRAINT stranger_refusal_pkey PRIMARY KEY (organisation, action),
    CONSTRAINT stranger_refusal_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE stranger_refusal ENABLE ROW LEVEL SECURITY;
ALTER TABLE stranger_refusal FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON stranger_refusal USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON stranger_refusal TO jexlin_service;

-- Failed sign-ins, by person and by address.
CREATE TABLE throttle (
    organisation uuid NOT NULL,
    key text NOT NULL,
    failures integer NOT NULL,
    last_failure_at timestamptz NOT NULL,
    CONSTRAINT throttle_pkey PRIMARY KEY (organisation, key),
    CONSTRAINT throttle_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE throttle ENABLE ROW LEVEL SECURITY;
ALTER TABLE throttle FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON throttle USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON throttle TO jexlin_service;

CREATE TABLE people_group (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    name text NOT NULL,
    created_at timestamptz NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT people_group_pkey PRIMARY KEY (id),
    CONSTRAINT people_group_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
CREATE UNIQUE INDEX people_group_name ON people_group (organisation, lower(name));
ALTER TABLE people_group ENABLE ROW LEVEL SECURITY;
ALTER TABLE people_group FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON people_group USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON people_group TO jexlin_service;

CREATE TABLE group_member (
    organisation uuid NOT NULL,
    group_id uuid NOT NULL,
    member uuid NOT NULL,
    member_is_group boolean NOT NULL,
    CONSTRAINT group_member_pkey PRIMARY KEY (group_id, member),
    CONSTRAINT group_member_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT group_member_group_id_fkey FOREIGN KEY (group_id) REFERENCES people_group(id) ON DELETE CASCADE
);
CREATE INDEX group_member_member ON group_member (member);
ALTER TABLE group_member ENABLE ROW LEVEL SECURITY;
ALTER TABLE group_member FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON group_member USING (organisation = (SELECT scope()));
CREATE POLICY found ON group_member FOR SELECT TO CURRENT_USER USING (true);
GRANT INSERT, SELECT, UPDATE, DELETE ON group_member TO jexlin_service;

-- The vault as people live in it: reasons in the history, the bin, kinds of an organisation's own,
-- rules for passwords by folder, findings, tags, attachments, personal folders.
-- What an organisation has set. What is not in the body has its default, which the core knows.
CREATE TABLE settings (
    organisation uuid NOT NULL,
    body jsonb NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT settings_pkey PRIMARY KEY (organisation),
    CONSTRAINT settings_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE settings ENABLE ROW LEVEL SECURITY;
ALTER TABLE settings FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON settings USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON settings TO jexlin_service;

-- The services that run on this database, and which root keys each of them has in memory and keeps. It
-- belongs to no organisation, and tells nothing of one.
CREATE TABLE service_seen (
    id uuid NOT NULL,
    name text NOT NULL,
    root_keys text[] NOT NULL,
    seen_at timestamptz NOT NULL,
    CONSTRAINT service_seen_pkey PRIMARY KEY (id)
);
GRANT INSERT, SELECT, UPDATE, DELETE ON service_seen TO jexlin_service;
