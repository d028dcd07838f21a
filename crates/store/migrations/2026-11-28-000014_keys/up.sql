-- Keys that change while services run, and what one sealer tells the next.

-- The organisation's key is wrapped under the root key; while the root key changes, under the next one as
-- well. While the organisation's own key changes, the former one is kept under the new one until no data
-- key is under it any more.
ALTER TABLE organisation
    ADD COLUMN root_key text NOT NULL DEFAULT '',
    ADD COLUMN next_wrapped_key bytea,
    ADD COLUMN next_root_key text,
    ADD COLUMN key_number integer NOT NULL DEFAULT 1 CHECK (key_number > 0),
    ADD COLUMN former_key bytea,
    ADD CONSTRAINT organisation_next_root CHECK ((next_wrapped_key IS NULL) = (next_root_key IS NULL));
-- By which of the organisation's keys: a data key is wrapped, an event is authenticated.
ALTER TABLE credential ADD COLUMN key_number integer NOT NULL DEFAULT 1;
ALTER TABLE audit_event ADD COLUMN key_number integer NOT NULL DEFAULT 1;

-- No key is lost: the wrapped key changes only to the one that was prepared, or with the former one kept;
-- and that goes only when nothing needs it.
CREATE FUNCTION keep_organisation_key() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    advances boolean := NEW.key_number = OLD.key_number + 1 AND OLD.former_key IS NULL AND NEW.former_key IS NOT NULL AND OLD.next_wrapped_key IS NULL;
BEGIN
    IF NEW.key_number <> OLD.key_number AND NOT advances THEN
        RAISE EXCEPTION 'the numbers of an organisation key go up by one';
    END IF;
    IF NEW.wrapped_key <> OLD.wrapped_key AND NOT advances
        AND (NEW.wrapped_key IS DISTINCT FROM OLD.next_wrapped_key OR NEW.root_key IS DISTINCT FROM OLD.next_root_key) THEN
        RAISE EXCEPTION 'an organisation key is never overwritten';
    END IF;
    IF NEW.former_key IS DISTINCT FROM OLD.former_key AND NOT advances
        AND (NEW.former_key IS NOT NULL OR EXISTS (SELECT FROM credential c WHERE c.organisation = NEW.id AND c.key_number < NEW.key_number AND c.data_key <> '')) THEN
        RAISE EXCEPTION 'data keys are still under the former organisation key';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER organisation_key_kept BEFORE UPDATE ON organisation FOR EACH ROW EXECUTE FUNCTION keep_organisation_key();
CREATE FUNCTION tell_keys() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('jexlin_live', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;
CREATE TRIGGER organisation_keys_told AFTER UPDATE OF wrapped_key, former_key, next_wrapped_key ON organisation FOR EACH ROW EXECUTE FUNCTION tell_keys();

CREATE FUNCTION number_data_key() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    -- A service that does not know of the newest key cannot commit: its event has another number.
    NEW.key_number := (SELECT o.key_number FROM organisation o WHERE o.id = NEW.organisation);
    RETURN NEW;
END $$;
CREATE TRIGGER credential_key_numbered BEFORE INSERT ON credential FOR EACH ROW EXECUTE FUNCTION number_data_key();

-- Whoever commits holds this lock together with all others that do; whoever locks the vault or changes a
-- key holds it alone, so that afterwards nobody commits who did not know of it.
CREATE FUNCTION commit_lock() RETURNS bigint LANGUAGE sql STABLE AS $$ SELECT hashtextextended(scope()::text, 14) $$;

DROP FUNCTION must_be_recorded(uuid);
CREATE FUNCTION must_be_recorded(session uuid, number integer) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    here record;
BEGIN
    IF current_setting('jexlin.recorded', true) IS DISTINCT FROM 'yes' THEN
        RAISE EXCEPTION 'no audit event is in this transaction';
    END IF;
    IF current_setting('jexlin.examine', true) IS NOT DISTINCT FROM 'due' THEN
        RAISE EXCEPTION 'requests and checkouts were not examined again';
    END IF;
    IF session IS NOT NULL AND NOT EXISTS (
        SELECT FROM session s JOIN person p ON p.id = s.person_id WHERE s.id = session AND s.ended_at IS NULL AND p.state = 'active') THEN
        RAISE EXCEPTION 'the session is over';
    END IF;
    PERFORM pg_advisory_xact_lock_shared(commit_lock());
    SELECT o.locked_at, o.key_number INTO here FROM organisation o WHERE o.id = scope();
    IF here.locked_at IS NOT NULL AND current_setting('jexlin.locks', true) IS DISTINCT FROM 'yes' THEN
        RAISE EXCEPTION 'the vault is locked';
    END IF;
    IF here.key_number <> number THEN
        RAISE EXCEPTION 'the keys have changed';
    END IF;
END $$;

-- Before a scope is known: whose vault is not locked, and the state of its keys.
DROP FUNCTION open_organisations();
CREATE FUNCTION open_organisations() RETURNS TABLE (id uuid, key_number integer, changing boolean) LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS $$ SELECT o.id, o.key_number, o.former_key IS NOT NULL FROM organisation o WHERE o.locked_at IS NULL $$;

-- The services that run on this database, and which root keys each of them has in memory and keeps. It
-- belongs to no organisation, and tells nothing of one.
CREATE TABLE service_seen (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    root_keys text[] NOT NULL,
    seen_at timestamptz NOT NULL
);
GRANT SELECT, INSERT, UPDATE, DELETE ON service_seen TO jexlin_service;

-- Up to which number the last sealer has looked, and which numbers below were not to be seen yet: the next
-- one goes on from there, whichever service it is.
ALTER TABLE audit_frontier ADD COLUMN highest bigint NOT NULL DEFAULT 0, ADD COLUMN gaps bigint[] NOT NULL DEFAULT '{}';

-- A data key is wrapped anew only when it moves to the organisation's next key.
CREATE OR REPLACE FUNCTION keep_data_key() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    moves boolean := NEW.key_number = OLD.key_number + 1
        AND NEW.key_number = (SELECT o.key_number FROM organisation o WHERE o.id = NEW.organisation);
BEGIN
    IF NEW.data_key IS DISTINCT FROM OLD.data_key AND NEW.purged_at IS NULL AND NOT moves THEN
        RAISE EXCEPTION 'a data key is never overwritten';
    END IF;
    IF NEW.key_number <> OLD.key_number AND NOT (moves AND NEW.data_key <> OLD.data_key) THEN
        RAISE EXCEPTION 'the number of a data key follows the key';
    END IF;
    RETURN NEW;
END $$;
DROP TRIGGER credential_key_kept ON credential;
CREATE TRIGGER credential_key_kept BEFORE UPDATE OF data_key, key_number ON credential FOR EACH ROW EXECUTE FUNCTION keep_data_key();
GRANT UPDATE (key_number) ON credential TO jexlin_service;

-- Finding by words: under row-level security no index on LIKE is used, since LIKE could tell of rows that
-- the policy hides. The functions that find therefore run with the owner's rights and name the organisation
-- themselves; the owner may read what they read, which holds no value, and still changes nothing outside of
-- one organisation.
DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['credential', 'device', 'folder', 'folder_source', 'access_grant', 'group_member'] LOOP
        EXECUTE format('CREATE POLICY found ON %I FOR SELECT TO %I USING (true)', t, current_user);
    END LOOP;
END $$;
