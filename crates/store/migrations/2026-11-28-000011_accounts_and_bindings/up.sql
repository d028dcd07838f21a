-- Accounts, bindings, identities, fenced leases.

ALTER TABLE device ADD CONSTRAINT device_of_organisation UNIQUE (organisation, id);

-- An account: a login name on a device. At most one credential is its password. What upkeep knows,
-- the lockout budget, jobs and plans belong to it and stay when the credential changes.
CREATE TABLE account (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    device_id uuid NOT NULL,
    family text NOT NULL CHECK (family IN ('local', 'database', 'directory', 'application')),
    login text NOT NULL CHECK (login <> ''),
    -- The login as devices of this family compare names.
    login_key text NOT NULL,
    credential_id uuid UNIQUE,
    created_at timestamptz NOT NULL,
    -- Whether the due times must be worked out again.
    stale boolean NOT NULL DEFAULT true,
    next_check_at timestamptz,
    next_rotation_at timestamptz,
    checked_at timestamptz,
    check_outcome text,
    rotated_at timestamptz,
    rotation_outcome text,
    -- A rotation that the end of a checkout asks for: since when, and when it is tried next. Only a
    -- rotation that is done clears it.
    rotation_owed_at timestamptz,
    owed_tries integer NOT NULL DEFAULT 0,
    owed_next_at timestamptz,
    CONSTRAINT account_device FOREIGN KEY (organisation, device_id) REFERENCES device (organisation, id),
    CONSTRAINT account_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential (organisation, id),
    UNIQUE (organisation, id)
);
CREATE UNIQUE INDEX account_login ON account (device_id, family, login_key);
CREATE INDEX account_stale ON account (organisation) WHERE stale;
CREATE INDEX account_check ON account (organisation, next_check_at) WHERE next_check_at IS NOT NULL;
CREATE INDEX account_rotation ON account (organisation, next_rotation_at) WHERE next_rotation_at IS NOT NULL;
CREATE INDEX account_outcome ON account (organisation, check_outcome) WHERE check_outcome IS NOT NULL;
CREATE INDEX account_owed ON account (organisation, owed_next_at) WHERE rotation_owed_at IS NOT NULL;

INSERT INTO account (id, organisation, device_id, family, login, login_key, credential_id, created_at, next_check_at, next_rotation_at,
                     checked_at, check_outcome, rotated_at, rotation_outcome)
    SELECT DISTINCT ON (c.device_id, c.fields->>'user_name') gen_random_uuid(), c.organisation, c.device_id, 'local', c.fields->>'user_name', c.fields->>'user_name',
           c.id, c.created_at, u.next_check_at, u.next_rotation_at, u.checked_at, u.check_outcome, u.rotated_at, u.rotation_outcome
    FROM credential c LEFT JOIN upkeep_state u ON u.credential_id = c.id
    WHERE c.device_id IS NOT NULL AND coalesce(c.fields->>'user_name', '') <> '' ORDER BY c.device_id, c.fields->>'user_name', c.created_at;
UPDATE credential c SET device_id = NULL WHERE device_id IS NOT NULL AND NOT EXISTS (SELECT FROM account a WHERE a.credential_id = c.id);

DROP TABLE upkeep_state;
-- What lists and findings ask about a credential's account.
CREATE VIEW upkeep_state WITH (security_invoker = true) AS
    SELECT a.credential_id, a.organisation, a.id AS account_id, a.check_outcome FROM account a WHERE a.credential_id IS NOT NULL;

-- Whether a credential is an account of a device is decided here alone: `credential.device_id` follows.
CREATE FUNCTION follow_account() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    IF TG_OP <> 'INSERT' AND OLD.credential_id IS DISTINCT FROM NEW.credential_id AND OLD.credential_id IS NOT NULL THEN
        UPDATE credential SET device_id = NULL WHERE id = OLD.credential_id AND organisation = OLD.organisation;
    END IF;
    IF NEW.credential_id IS NOT NULL THEN
        UPDATE credential SET device_id = NEW.device_id WHERE id = NEW.credential_id AND organisation = NEW.organisation;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER account_followed AFTER INSERT OR UPDATE OF credential_id ON account FOR EACH ROW EXECUTE FUNCTION follow_account();

-- An account stays what it is.
CREATE FUNCTION keep_account() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF (NEW.organisation, NEW.device_id, NEW.family, NEW.login_key) IS DISTINCT FROM (OLD.organisation, OLD.device_id, OLD.family, OLD.login_key) THEN
        RAISE EXCEPTION 'an account is never renamed or moved';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER account_kept BEFORE UPDATE ON account FOR EACH ROW EXECUTE FUNCTION keep_account();

-- Which identities a device may prove, one a line; and whether it is left alone because it refuses its
-- operator.
ALTER TABLE device ADD COLUMN identity text NOT NULL DEFAULT '';
UPDATE device SET identity = coalesce(host_key, '');
ALTER TABLE device DROP COLUMN host_key, ADD COLUMN paused_at timestamptz, ADD COLUMN paused_why text NOT NULL DEFAULT '';

-- A binding: this credential's password may be sent to this endpoint, as account or as operator.
CREATE TABLE binding (
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL,
    device_id uuid NOT NULL,
    role text NOT NULL CHECK (role IN ('account', 'operator')),
    address text NOT NULL,
    port integer NOT NULL,
    identity text NOT NULL,
    confirmed_at timestamptz NOT NULL,
    confirmed_by uuid REFERENCES person,
    PRIMARY KEY (device_id, credential_id, role),
    CONSTRAINT binding_device FOREIGN KEY (organisation, device_id) REFERENCES device (organisation, id),
    CONSTRAINT binding_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential (organisation, id)
);
CREATE UNIQUE INDEX binding_operator ON binding (device_id) WHERE role = 'operator';
CREATE UNIQUE INDEX binding_account ON binding (credential_id) WHERE role = 'account';
INSERT INTO binding SELECT d.organisation, a.credential_id, d.id, 'account', d.address, d.port, d.identity, d.created_at, NULL
    FROM device d JOIN account a ON a.device_id = d.id WHERE a.credential_id IS NOT NULL;
INSERT INTO binding SELECT d.organisation, d.operator_id, d.id, 'operator', d.address, d.port, d.identity, d.created_at, NULL FROM device d WHERE d.operator_id IS NOT NULL;

-- Where a credential may be used as an operator: its stewards name devices, or folders of devices.
CREATE TABLE operator_scope (
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL,
    device_id uuid,
    folder_id uuid,
    CHECK (num_nonnulls(device_id, folder_id) = 1),
    CONSTRAINT operator_scope_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential (organisation, id),
    CONSTRAINT operator_scope_device FOREIGN KEY (organisation, device_id) REFERENCES device (organisation, id),
    CONSTRAINT operator_scope_folder FOREIGN KEY (organisation, folder_id) REFERENCES folder (organisation, id)
);
CREATE UNIQUE INDEX operator_scope_once ON operator_scope (credential_id, device_id, folder_id) NULLS NOT DISTINCT;
INSERT INTO operator_scope SELECT DISTINCT d.organisation, d.operator_id, d.id, NULL::uuid FROM device d WHERE d.operator_id IS NOT NULL;
ALTER TABLE device DROP COLUMN operator_id;

-- Whether a credential may be used as the operator of a device: the device or a folder above it is named.
CREATE FUNCTION in_operator_scope(credential uuid, device uuid) RETURNS boolean LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN EXISTS (
        WITH RECURSIVE up(id, parent_id) AS (
            SELECT f.id, f.parent_id FROM device d JOIN folder f ON f.id = d.folder_id WHERE d.id = device
            UNION
            SELECT f.id, f.parent_id FROM folder f JOIN up ON f.id = up.parent_id
        ) SELECT FROM operator_scope o WHERE o.credential_id = credential AND (o.device_id = device OR o.folder_id IN (SELECT id FROM up)));
END $$;

-- Failed logins belong to the account.
DROP TABLE failed_login;
CREATE TABLE failed_login (
    organisation uuid NOT NULL REFERENCES organisation,
    account_id uuid NOT NULL,
    at timestamptz NOT NULL,
    CONSTRAINT failed_login_account FOREIGN KEY (organisation, account_id) REFERENCES account (organisation, id)
);
CREATE INDEX failed_login_recent ON failed_login (account_id, at);

-- When logins to the same account failed: the same login at the same endpoint or identity, whatever
-- device of the vault it is reached through.
CREATE FUNCTION failed_logins(wanted uuid, since timestamptz) RETURNS SETOF timestamptz LANGUAGE sql STABLE AS $$
    SELECT l.at FROM account a JOIN device d ON d.id = a.device_id
    JOIN account o ON o.family = a.family AND o.login_key = a.login_key
    JOIN device e ON e.id = o.device_id
    JOIN failed_login l ON l.account_id = o.id
    WHERE a.id = wanted AND l.at > since
      AND (o.id = a.id OR (lower(e.address) = lower(d.address) AND e.port = d.port) OR (e.identity = d.identity AND e.identity <> '' AND e.identity NOT LIKE '%@cert-authority%'))
$$;

-- Leases have a token; one job an account; a job that the service itself cannot carry out ends.
ALTER TABLE job ADD COLUMN account_id uuid, ADD COLUMN fence bigint NOT NULL DEFAULT 0, ADD COLUMN faults integer NOT NULL DEFAULT 0;
UPDATE job j SET account_id = a.id FROM account a WHERE a.credential_id = j.credential_id;
DELETE FROM job WHERE account_id IS NULL;
ALTER TABLE job ALTER COLUMN account_id SET NOT NULL, DROP COLUMN leased_by,
    ADD CONSTRAINT job_account FOREIGN KEY (organisation, account_id) REFERENCES account (organisation, id);
DROP INDEX job_one_at_a_time;
CREATE UNIQUE INDEX job_one_at_a_time ON job (account_id) WHERE state IN ('queued', 'running');
CREATE INDEX job_running ON job (organisation) WHERE state = 'running';

-- Only the trigger above writes `credential.device_id`.
REVOKE UPDATE ON credential FROM jexlin_service;
GRANT UPDATE (folder_id, kind, name, fields, data_key, changed_at, changed_by, removed_at, version, removal_id, purged_at, extra, tags) ON credential TO jexlin_service;

-- When a password was last sent to a device without an answer that was acted on.
ALTER TABLE secret_version ADD COLUMN unanswered_at timestamptz;
CREATE INDEX secret_version_unanswered ON secret_version (credential_id) WHERE unanswered_at IS NOT NULL;

-- Plans are set on a folder or an account.
ALTER TABLE upkeep_plan ADD COLUMN account_id uuid,
    ADD CONSTRAINT upkeep_plan_account FOREIGN KEY (organisation, account_id) REFERENCES account (organisation, id);
UPDATE upkeep_plan p SET account_id = a.id FROM account a WHERE a.credential_id = p.credential_id;
DELETE FROM upkeep_plan WHERE folder_id IS NULL AND account_id IS NULL;
ALTER TABLE upkeep_plan DROP COLUMN credential_id, ADD CHECK (num_nonnulls(folder_id, account_id) = 1);
CREATE UNIQUE INDEX upkeep_plan_place ON upkeep_plan (folder_id, account_id) NULLS NOT DISTINCT;

-- The nearest plan: the account's own, or that of the nearest folder above its credential.
DROP FUNCTION plan_of(uuid);
CREATE FUNCTION plan_of(account uuid) RETURNS uuid LANGUAGE plpgsql STABLE AS $$
DECLARE
    found uuid;
    place uuid;
BEGIN
    SELECT p.id INTO found FROM upkeep_plan p WHERE p.account_id = account;
    IF found IS NOT NULL THEN RETURN found; END IF;
    SELECT c.folder_id INTO place FROM account a JOIN credential c ON c.id = a.credential_id WHERE a.id = account;
    WHILE place IS NOT NULL LOOP
        SELECT p.id INTO found FROM upkeep_plan p WHERE p.folder_id = place;
        IF found IS NOT NULL THEN RETURN found; END IF;
        SELECT f.parent_id INTO place FROM folder f WHERE f.id = place;
    END LOOP;
    RETURN NULL;
END $$;

CREATE OR REPLACE FUNCTION purge_credential(wanted uuid, at timestamptz) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE
    row credential%ROWTYPE;
BEGIN
    SELECT * INTO row FROM credential c WHERE c.id = wanted AND c.organisation = scope() FOR UPDATE;
    IF row.id IS NULL OR row.removed_at IS NULL OR row.purged_at IS NOT NULL THEN
        RAISE EXCEPTION 'only what is in the bin can be purged';
    END IF;
    IF EXISTS (SELECT FROM job j WHERE j.credential_id = wanted AND j.state IN ('queued', 'running'))
       OR EXISTS (SELECT FROM checkout k WHERE k.credential_id = wanted AND k.ended_at IS NULL)
       OR EXISTS (SELECT FROM account a WHERE a.credential_id = wanted AND a.rotation_owed_at IS NOT NULL)
       OR EXISTS (SELECT FROM secret_version v WHERE v.credential_id = wanted AND v.state = 'candidate') THEN
        RAISE EXCEPTION 'a job, a checkout or a rotation that is owed is under way';
    END IF;
    -- In the order in which judging locks them.
    DELETE FROM judgement j WHERE j.credential_id = wanted;
    PERFORM set_config('jexlin.purging', wanted::text, true);
    DELETE FROM secret_version v WHERE v.credential_id = wanted;
    DELETE FROM attachment a WHERE a.credential_id = wanted;
    PERFORM set_config('jexlin.purging', '', true);
    DELETE FROM favourite f WHERE f.credential_id = wanted;
    DELETE FROM one_time_counter o WHERE o.credential_id = wanted;
    DELETE FROM access_grant g WHERE g.credential_id = wanted;
    DELETE FROM gate g WHERE g.credential_id = wanted;
    DELETE FROM binding b WHERE b.credential_id = wanted;
    DELETE FROM operator_scope o WHERE o.credential_id = wanted;
    UPDATE account SET credential_id = NULL WHERE credential_id = wanted;
    UPDATE credential SET purged_at = at, data_key = '', fields = '{}', tags = '{}', extra = '[]' WHERE id = wanted;
END $$;

DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['account', 'binding', 'operator_scope', 'failed_login'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY inside ON %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t);
    END LOOP;
END $$;
GRANT SELECT ON upkeep_state TO jexlin_service;
GRANT SELECT, INSERT, UPDATE ON account TO jexlin_service;
GRANT SELECT, INSERT, UPDATE, DELETE ON binding TO jexlin_service;
GRANT SELECT, INSERT, DELETE ON operator_scope TO jexlin_service;
GRANT SELECT, INSERT, DELETE ON failed_login TO jexlin_service;
