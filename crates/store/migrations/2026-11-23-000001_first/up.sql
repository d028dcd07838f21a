-- The role `jexlin_service` must exist; it owns nothing (promise 5).

CREATE EXTENSION IF NOT EXISTS pg_trgm;

-- The organisation of the transaction. Unset: null, and every policy below then shows nothing.
CREATE FUNCTION scope() RETURNS uuid LANGUAGE sql STABLE
    AS $$ SELECT nullif(current_setting('jexlin.organisation', true), '')::uuid $$;

CREATE TABLE organisation (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    wrapped_key bytea NOT NULL,
    log_origin text NOT NULL,
    log_key_sealed bytea NOT NULL,
    log_verifier text NOT NULL,
    created_at timestamptz NOT NULL
);

CREATE TABLE person (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    sign_in_name text NOT NULL,
    display_name text NOT NULL,
    password_phc text,
    state text NOT NULL CHECK (state IN ('invited', 'active', 'suspended', 'left')),
    duties text[] NOT NULL DEFAULT '{}',
    created_at timestamptz NOT NULL,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX person_sign_in_name ON person (organisation, lower(sign_in_name));

CREATE TABLE session (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    person_id uuid NOT NULL REFERENCES person,
    token_hash bytea NOT NULL UNIQUE,
    channel text NOT NULL CHECK (channel IN ('console', 'client')),
    created_at timestamptz NOT NULL,
    last_used_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    ended_at timestamptz
);
CREATE INDEX session_person ON session (person_id) WHERE ended_at IS NULL;

-- Failed sign-ins, by person and by address.
CREATE TABLE throttle (
    organisation uuid NOT NULL REFERENCES organisation,
    key text NOT NULL,
    failures integer NOT NULL,
    last_failure_at timestamptz NOT NULL,
    PRIMARY KEY (organisation, key)
);

CREATE TABLE people_group (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    name text NOT NULL,
    created_at timestamptz NOT NULL,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX people_group_name ON people_group (organisation, lower(name));

CREATE TABLE group_member (
    organisation uuid NOT NULL REFERENCES organisation,
    group_id uuid NOT NULL REFERENCES people_group ON DELETE CASCADE,
    member uuid NOT NULL,
    member_is_group boolean NOT NULL,
    PRIMARY KEY (group_id, member)
);
CREATE INDEX group_member_member ON group_member (member);

CREATE TABLE folder (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    parent_id uuid REFERENCES folder,
    name text NOT NULL,
    closed boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL,
    created_by uuid REFERENCES person,
    removed_at timestamptz,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX folder_name ON folder (organisation, parent_id, lower(name)) NULLS NOT DISTINCT WHERE removed_at IS NULL;
CREATE INDEX folder_parent ON folder (parent_id);

-- The folders from which grants flow into a folder: itself and those above, up to and including
-- the first closed one. Derived from `folder`; `refresh_sources` keeps it.
CREATE TABLE folder_source (
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid NOT NULL REFERENCES folder ON DELETE CASCADE,
    source_id uuid NOT NULL REFERENCES folder ON DELETE CASCADE,
    PRIMARY KEY (folder_id, source_id)
);
CREATE INDEX folder_source_source ON folder_source (source_id, folder_id);

CREATE TABLE device (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid NOT NULL REFERENCES folder,
    name text NOT NULL,
    connector text NOT NULL CHECK (connector IN ('ssh')),
    address text NOT NULL,
    port integer NOT NULL CHECK (port BETWEEN 1 AND 65535),
    host_key text,
    operator_id uuid,
    created_at timestamptz NOT NULL,
    removed_at timestamptz,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX device_name ON device (organisation, folder_id, lower(name)) WHERE removed_at IS NULL;

CREATE TABLE credential (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid NOT NULL REFERENCES folder,
    kind text NOT NULL,
    name text NOT NULL,
    fields jsonb NOT NULL,
    device_id uuid REFERENCES device,
    data_key bytea NOT NULL,
    created_at timestamptz NOT NULL,
    created_by uuid REFERENCES person,
    changed_at timestamptz NOT NULL,
    changed_by uuid REFERENCES person,
    removed_at timestamptz,
    version integer NOT NULL DEFAULT 1,
    search text GENERATED ALWAYS AS (lower(name || ' ' || coalesce(fields->>'user_name', '') || ' ' || coalesce(fields->>'url', ''))) STORED
);
CREATE UNIQUE INDEX credential_name ON credential (organisation, folder_id, lower(name)) WHERE removed_at IS NULL;
CREATE INDEX credential_order ON credential (organisation, lower(name), id) WHERE removed_at IS NULL;
CREATE INDEX credential_folder_order ON credential (folder_id, lower(name), id) WHERE removed_at IS NULL;
CREATE INDEX credential_device ON credential (device_id) WHERE removed_at IS NULL;
CREATE INDEX credential_search ON credential USING gin (search gin_trgm_ops);
ALTER TABLE device ADD FOREIGN KEY (operator_id) REFERENCES credential;

CREATE TABLE secret_version (
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    field text NOT NULL,
    number integer NOT NULL,
    state text NOT NULL CHECK (state IN ('candidate', 'current', 'previous', 'discarded')),
    sealed bytea NOT NULL,
    made_at timestamptz NOT NULL,
    made_by uuid REFERENCES person,
    made_how text NOT NULL CHECK (made_how IN ('typed', 'generated', 'rotated')),
    PRIMARY KEY (credential_id, field, number)
);
CREATE UNIQUE INDEX secret_version_current ON secret_version (credential_id, field) WHERE state = 'current';
CREATE UNIQUE INDEX secret_version_candidate ON secret_version (credential_id, field) WHERE state = 'candidate';

-- No version is overwritten or deleted: only its state changes (promise 2).
CREATE FUNCTION keep_secret_version() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        RAISE EXCEPTION 'a secret version is never deleted';
    END IF;
    IF (NEW.organisation, NEW.credential_id, NEW.field, NEW.number, NEW.sealed, NEW.made_at) IS DISTINCT FROM
       (OLD.organisation, OLD.credential_id, OLD.field, OLD.number, OLD.sealed, OLD.made_at) THEN
        RAISE EXCEPTION 'a secret version is never overwritten';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER secret_version_kept BEFORE UPDATE OR DELETE ON secret_version FOR EACH ROW EXECUTE FUNCTION keep_secret_version();

-- `grant` and `level` are words of SQL; the columns are named so that nothing needs quotes.
CREATE TABLE access_grant (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid REFERENCES folder,
    credential_id uuid REFERENCES credential,
    person_id uuid REFERENCES person,
    group_id uuid REFERENCES people_group,
    held smallint NOT NULL CHECK (held BETWEEN 1 AND 5),
    ends_at timestamptz,
    note text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL,
    created_by uuid REFERENCES person,
    CHECK (num_nonnulls(folder_id, credential_id) = 1),
    CHECK (num_nonnulls(person_id, group_id) = 1)
);
CREATE UNIQUE INDEX access_grant_once ON access_grant (folder_id, credential_id, person_id, group_id) NULLS NOT DISTINCT;
CREATE INDEX access_grant_person ON access_grant (person_id, folder_id, credential_id) WHERE person_id IS NOT NULL;
CREATE INDEX access_grant_group ON access_grant (group_id, folder_id, credential_id) WHERE group_id IS NOT NULL;
CREATE INDEX access_grant_credential ON access_grant (credential_id) WHERE credential_id IS NOT NULL;
CREATE INDEX access_grant_folder ON access_grant (folder_id) WHERE folder_id IS NOT NULL;

CREATE TABLE password_policy (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    name text NOT NULL,
    rules jsonb NOT NULL,
    is_default boolean NOT NULL DEFAULT false,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX password_policy_name ON password_policy (organisation, lower(name));
CREATE UNIQUE INDEX password_policy_default ON password_policy (organisation) WHERE is_default;

CREATE TABLE upkeep_plan (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid REFERENCES folder,
    credential_id uuid REFERENCES credential,
    check_rule text,
    out_of_sync text NOT NULL CHECK (out_of_sync IN ('tell', 'rotate', 'both')),
    rotate_rule text,
    rotate_days integer,
    hours_from text,
    hours_to text,
    time_zone text NOT NULL,
    policy_id uuid REFERENCES password_policy,
    anchor date NOT NULL,
    version integer NOT NULL DEFAULT 1,
    CHECK (num_nonnulls(folder_id, credential_id) = 1),
    CHECK (num_nonnulls(rotate_rule, rotate_days) <= 1),
    CHECK (num_nonnulls(hours_from, hours_to) IN (0, 2))
);
CREATE UNIQUE INDEX upkeep_plan_place ON upkeep_plan (folder_id, credential_id) NULLS NOT DISTINCT;

-- What upkeep knows of a credential on a device.
CREATE TABLE upkeep_state (
    credential_id uuid PRIMARY KEY REFERENCES credential,
    organisation uuid NOT NULL REFERENCES organisation,
    stale boolean NOT NULL DEFAULT true,
    next_check_at timestamptz,
    next_rotation_at timestamptz,
    checked_at timestamptz,
    check_outcome text,
    rotated_at timestamptz,
    rotation_outcome text
);
CREATE INDEX upkeep_state_stale ON upkeep_state (organisation) WHERE stale;
CREATE INDEX upkeep_state_check ON upkeep_state (organisation, next_check_at) WHERE next_check_at IS NOT NULL;
CREATE INDEX upkeep_state_rotation ON upkeep_state (organisation, next_rotation_at) WHERE next_rotation_at IS NOT NULL;

-- Logins that failed, for the lockout budget.
CREATE TABLE failed_login (
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    at timestamptz NOT NULL
);
CREATE INDEX failed_login_recent ON failed_login (credential_id, at);

CREATE TABLE job (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    device_id uuid NOT NULL REFERENCES device,
    task text NOT NULL CHECK (task IN ('check', 'rotation')),
    way text NOT NULL DEFAULT 'operator' CHECK (way IN ('operator', 'self')),
    state text NOT NULL CHECK (state IN ('queued', 'running', 'done', 'failed')),
    step text NOT NULL DEFAULT '',
    outcome text,
    message text NOT NULL DEFAULT '',
    asked_by uuid REFERENCES person,
    cause text NOT NULL,
    queued_at timestamptz NOT NULL,
    not_before timestamptz NOT NULL,
    started_at timestamptz,
    finished_at timestamptz,
    attempts integer NOT NULL DEFAULT 0,
    leased_by uuid,
    leased_until timestamptz
);
-- One job per account at a time.
CREATE UNIQUE INDEX job_one_at_a_time ON job (credential_id) WHERE state IN ('queued', 'running');
CREATE INDEX job_waiting ON job (organisation, not_before) WHERE state IN ('queued', 'running');
CREATE INDEX job_recent ON job (organisation, queued_at DESC, id DESC);
CREATE INDEX job_credential ON job (credential_id, queued_at DESC);
CREATE INDEX job_device ON job (device_id) WHERE state = 'running';

CREATE TABLE gate (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    folder_id uuid REFERENCES folder,
    credential_id uuid REFERENCES credential,
    needs_reason boolean NOT NULL,
    needs_approval boolean NOT NULL,
    longest_minutes integer NOT NULL,
    one_holder boolean NOT NULL,
    rotate_on_return boolean NOT NULL,
    version integer NOT NULL DEFAULT 1,
    CHECK (num_nonnulls(folder_id, credential_id) = 1)
);
CREATE UNIQUE INDEX gate_place ON gate (folder_id, credential_id) NULLS NOT DISTINCT;
CREATE INDEX gate_credential ON gate (credential_id) WHERE credential_id IS NOT NULL;

CREATE TABLE gate_approver (
    organisation uuid NOT NULL REFERENCES organisation,
    gate_id uuid NOT NULL REFERENCES gate ON DELETE CASCADE,
    subject uuid NOT NULL,
    subject_is_group boolean NOT NULL,
    PRIMARY KEY (gate_id, subject)
);

CREATE TABLE request (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    gate_id uuid NOT NULL,
    person_id uuid NOT NULL REFERENCES person,
    reason text NOT NULL,
    minutes integer NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'approved', 'refused', 'withdrawn', 'expired')),
    asked_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    decided_at timestamptz,
    decided_by uuid REFERENCES person,
    comment text NOT NULL DEFAULT '',
    checkout_id uuid
);
CREATE INDEX request_recent ON request (organisation, asked_at DESC, id DESC);
CREATE INDEX request_open ON request (organisation, expires_at) WHERE state IN ('waiting', 'approved');

CREATE TABLE checkout (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    person_id uuid NOT NULL REFERENCES person,
    request_id uuid REFERENCES request,
    reason text NOT NULL,
    starts_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    ended_at timestamptz,
    ended_how text CHECK (ended_how IN ('check-in', 'time', 'recalled')),
    rotate_on_return boolean NOT NULL,
    one_holder boolean NOT NULL
);
CREATE INDEX checkout_open ON checkout (credential_id) WHERE ended_at IS NULL;
CREATE INDEX checkout_holder ON checkout (person_id, starts_at DESC);
CREATE INDEX checkout_overdue ON checkout (organisation, ends_at) WHERE ended_at IS NULL;
-- Two people cannot take the same thing in the same moment when only one may hold it.
CREATE UNIQUE INDEX checkout_one_holder ON checkout (credential_id) WHERE ended_at IS NULL AND one_holder;

-- The audit log (promise 7). Rows are inserted and never touched again.
CREATE TABLE audit_event (
    seq bigint GENERATED ALWAYS AS IDENTITY,
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL,
    at timestamptz NOT NULL,
    action text NOT NULL,
    actor uuid,
    actor_name text NOT NULL,
    target uuid,
    target_type text NOT NULL,
    target_name text NOT NULL,
    origin text NOT NULL,
    outcome text NOT NULL,
    detail jsonb NOT NULL,
    mac bytea NOT NULL
);
CREATE UNIQUE INDEX audit_event_seq ON audit_event (organisation, seq);
CREATE INDEX audit_event_target ON audit_event (target, seq) WHERE target IS NOT NULL;
CREATE INDEX audit_event_actor ON audit_event (actor, seq) WHERE actor IS NOT NULL;

CREATE TABLE audit_leaf (
    organisation uuid NOT NULL,
    leaf bigint NOT NULL,
    event_id uuid NOT NULL UNIQUE,
    hash bytea NOT NULL,
    PRIMARY KEY (organisation, leaf)
);

CREATE TABLE audit_checkpoint (
    organisation uuid NOT NULL,
    size bigint NOT NULL,
    note text NOT NULL,
    made_at timestamptz NOT NULL,
    PRIMARY KEY (organisation, size)
);

-- The right edge of the tree: what the sealer needs to go on. It can be rebuilt from the leaves.
CREATE TABLE audit_frontier (
    organisation uuid PRIMARY KEY,
    size bigint NOT NULL,
    roots bytea NOT NULL
);

CREATE FUNCTION keep_audit_row() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit log is insert-only';
END $$;
CREATE TRIGGER audit_event_kept BEFORE UPDATE OR DELETE OR TRUNCATE ON audit_event FOR EACH STATEMENT EXECUTE FUNCTION keep_audit_row();
CREATE TRIGGER audit_leaf_kept BEFORE UPDATE OR DELETE OR TRUNCATE ON audit_leaf FOR EACH STATEMENT EXECUTE FUNCTION keep_audit_row();
CREATE TRIGGER audit_checkpoint_kept BEFORE UPDATE OR DELETE OR TRUNCATE ON audit_checkpoint FOR EACH STATEMENT EXECUTE FUNCTION keep_audit_row();

-- The first-run code: whoever can read the service's folder may set it up, nobody else.
-- Everything below is what the service's role may do.

-- The person and the groups they are in, directly or through other groups.
CREATE FUNCTION subjects_of(person uuid) RETURNS uuid[] LANGUAGE sql STABLE AS $$
    WITH RECURSIVE s(id) AS (
        SELECT person
        UNION
        SELECT m.group_id FROM group_member m JOIN s ON m.member = s.id
    ) SELECT array_agg(id) FROM s
$$;

-- The level that reaches a person on a credential, 1 to 5; null: none. Folders likewise.
CREATE FUNCTION level_on_credential(person uuid, credential uuid, at timestamptz) RETURNS smallint LANGUAGE plpgsql STABLE AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN (SELECT max(g.held) FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects))
          AND (g.ends_at IS NULL OR at < g.ends_at)
          AND (g.credential_id = credential
               OR g.folder_id IN (SELECT s.source_id FROM folder_source s JOIN credential c ON c.folder_id = s.folder_id WHERE c.id = credential)));
END $$;

CREATE FUNCTION level_on_folder(person uuid, folder uuid, at timestamptz) RETURNS smallint LANGUAGE plpgsql STABLE AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN (SELECT max(g.held) FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects))
          AND (g.ends_at IS NULL OR at < g.ends_at)
          AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;

-- The nearest gate: the credential's own, else the one of the nearest folder above.
CREATE FUNCTION gate_of(credential uuid) RETURNS uuid LANGUAGE plpgsql STABLE AS $$
DECLARE
    found uuid;
    place uuid;
BEGIN
    SELECT g.id INTO found FROM gate g WHERE g.credential_id = credential;
    IF found IS NOT NULL THEN RETURN found; END IF;
    SELECT c.folder_id INTO place FROM credential c WHERE c.id = credential;
    WHILE place IS NOT NULL LOOP
        SELECT g.id INTO found FROM gate g WHERE g.folder_id = place AND g.credential_id IS NULL;
        IF found IS NOT NULL THEN RETURN found; END IF;
        SELECT f.parent_id INTO place FROM folder f WHERE f.id = place;
    END LOOP;
    RETURN NULL;
END $$;

CREATE FUNCTION plan_of(credential uuid) RETURNS uuid LANGUAGE plpgsql STABLE AS $$
DECLARE
    found uuid;
    place uuid;
BEGIN
    SELECT p.id INTO found FROM upkeep_plan p WHERE p.credential_id = credential;
    IF found IS NOT NULL THEN RETURN found; END IF;
    SELECT c.folder_id INTO place FROM credential c WHERE c.id = credential;
    WHILE place IS NOT NULL LOOP
        SELECT p.id INTO found FROM upkeep_plan p WHERE p.folder_id = place AND p.credential_id IS NULL;
        IF found IS NOT NULL THEN RETURN found; END IF;
        SELECT f.parent_id INTO place FROM folder f WHERE f.id = place;
    END LOOP;
    RETURN NULL;
END $$;

CREATE FUNCTION path_of(folder uuid) RETURNS text LANGUAGE sql STABLE AS $$
    WITH RECURSIVE up(id, parent_id, path, depth) AS (
        SELECT f.id, f.parent_id, '/' || f.name, 1 FROM folder f WHERE f.id = folder
        UNION ALL
        SELECT f.id, f.parent_id, '/' || f.name || up.path, up.depth + 1 FROM folder f JOIN up ON f.id = up.parent_id WHERE up.depth < 1000
    ) SELECT path FROM up ORDER BY depth DESC LIMIT 1
$$;

CREATE FUNCTION subtree_of(top uuid) RETURNS SETOF uuid LANGUAGE sql STABLE AS $$
    WITH RECURSIVE down(id) AS (
        SELECT top
        UNION
        SELECT f.id FROM folder f JOIN down ON f.parent_id = down.id
    ) SELECT id FROM down
$$;

-- Recomputes the sources of a folder and all below it.
CREATE FUNCTION refresh_sources(top uuid) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM folder_source WHERE folder_id IN (SELECT subtree_of(top));
    WITH RECURSIVE below AS MATERIALIZED (SELECT subtree_of(top) AS id),
    up(folder_id, source_id, closed, parent_id) AS (
        SELECT f.id, f.id, f.closed, f.parent_id FROM folder f JOIN below b ON b.id = f.id
        UNION
        SELECT up.folder_id, f.id, f.closed, f.parent_id FROM up JOIN folder f ON f.id = up.parent_id WHERE NOT up.closed
    )
    INSERT INTO folder_source (organisation, folder_id, source_id) SELECT scope(), folder_id, source_id FROM up;
END $$;

-- Live news: which sort of thing changed, never what it holds.
CREATE FUNCTION tell_live() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('jexlin_live', NEW.organisation || ' ' || TG_TABLE_NAME || ' ' || NEW.id);
    RETURN NEW;
END $$;
CREATE TRIGGER job_live AFTER INSERT OR UPDATE ON job FOR EACH ROW EXECUTE FUNCTION tell_live();
CREATE TRIGGER request_live AFTER INSERT OR UPDATE ON request FOR EACH ROW EXECUTE FUNCTION tell_live();
CREATE TRIGGER checkout_live AFTER INSERT OR UPDATE ON checkout FOR EACH ROW EXECUTE FUNCTION tell_live();

-- Before a scope is known: which organisations there are.
CREATE FUNCTION organisations() RETURNS TABLE (id uuid, name text) LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS $$ SELECT o.id, o.name FROM organisation o ORDER BY o.name $$;

-- Row-level security, for the owner too, and grants to the service's role.
DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['person', 'session', 'throttle', 'people_group', 'group_member', 'folder', 'folder_source', 'device', 'credential',
        'secret_version', 'access_grant', 'password_policy', 'upkeep_plan', 'upkeep_state', 'failed_login', 'job', 'gate', 'gate_approver', 'request',
        'checkout', 'audit_event', 'audit_leaf', 'audit_checkpoint', 'audit_frontier'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY inside ON %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t);
        EXECUTE format('GRANT SELECT, INSERT ON %I TO jexlin_service', t);
        IF t NOT LIKE 'audit%' THEN
            EXECUTE format('GRANT UPDATE ON %I TO jexlin_service', t);
        END IF;
    END LOOP;
END $$;
ALTER TABLE organisation ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON organisation USING (id = (SELECT scope())) WITH CHECK (id = (SELECT scope()));
GRANT SELECT, INSERT, UPDATE ON organisation TO jexlin_service;
GRANT UPDATE ON audit_frontier TO jexlin_service;
GRANT DELETE ON session, throttle, people_group, group_member, folder_source, access_grant, password_policy, upkeep_plan, gate, gate_approver, failed_login TO jexlin_service;
GRANT USAGE ON SCHEMA public TO jexlin_service;
