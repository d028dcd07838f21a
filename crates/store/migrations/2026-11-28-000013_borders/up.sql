-- What depends on a secret's value obeys the level and the gates of a reveal; what the service's role and
-- the owner may do.

-- Whether somebody could see a credential's value at this moment: `reveal`, and no gate, or a checkout.
CREATE FUNCTION sees_value(viewer uuid, credential uuid, at timestamptz) RETURNS boolean LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN coalesce(level_on_credential(viewer, credential, at), 0) >= 3 AND (
        cardinality(gates_of(credential)) = 0
        OR EXISTS (SELECT FROM checkout k WHERE k.credential_id = credential AND k.person_id = viewer AND k.ended_at IS NULL AND at < k.ends_at));
END $$;

CREATE OR REPLACE FUNCTION findings_of(wanted uuid, viewer uuid, at timestamptz, weak_below integer, old_days integer, soon_days integer) RETURNS text[] LANGUAGE plpgsql STABLE AS $$
DECLARE
    found text[] := '{}';
    j judgement%ROWTYPE;
    ends date;
    seen boolean := sees_value(viewer, wanted, at);
BEGIN
    SELECT * INTO j FROM judgement WHERE credential_id = wanted;
    IF seen AND j.leaked > 0 THEN found := found || 'leaked'::text; END IF;
    IF EXISTS (SELECT FROM upkeep_state u WHERE u.credential_id = wanted AND u.check_outcome = 'out of sync') THEN found := found || 'out-of-sync'::text; END IF;
    IF seen AND j.score < weak_below THEN found := found || 'weak'::text; END IF;
    IF seen AND EXISTS (SELECT FROM judgement o JOIN credential c ON c.id = o.credential_id
               WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> wanted AND c.removed_at IS NULL
                 AND sees_value(viewer, c.id, at)) THEN
        found := found || 'reused'::text;
    END IF;
    SELECT to_date(c.fields->>'expires', 'YYYY-MM-DD') INTO ends FROM credential c WHERE c.id = wanted AND c.fields->>'expires' ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$';
    IF ends < at::date THEN found := found || 'expired'::text; END IF;
    IF seen AND cardinality(j.lacks) > 0 THEN found := found || 'breaks-policy'::text; END IF;
    IF ends >= at::date AND ends < at::date + soon_days THEN found := found || 'expires-soon'::text; END IF;
    IF old_days > 0 AND j.made_at < at - make_interval(days => old_days) THEN found := found || 'old'::text; END IF;
    RETURN found;
END $$;

-- Whether a grant that reaches somebody on a folder lets them see former values there.
CREATE FUNCTION history_on_folder(person uuid, folder uuid, at timestamptz) RETURNS boolean LANGUAGE plpgsql STABLE AS $$
DECLARE
    subjects uuid[] := subjects_of(person);
BEGIN
    RETURN EXISTS (SELECT FROM access_grant g
        WHERE (g.person_id = person OR g.group_id = ANY (subjects)) AND (g.ends_at IS NULL OR at < g.ends_at) AND g.history AND g.held >= 3
          AND g.only_kind IS NULL AND g.only_tag IS NULL AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;

-- Whether a change of these tags on something in a folder changes whom a narrowed grant reaches.
CREATE FUNCTION tags_move_access(folder uuid, changed text[], at timestamptz) RETURNS boolean LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN EXISTS (SELECT FROM access_grant g WHERE g.only_tag = ANY (changed) AND (g.ends_at IS NULL OR at < g.ends_at)
        AND g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = folder));
END $$;

-- A data key is as hard to change as the versions that it opens: only when it is wrapped under another
-- organisation key, or with everything else of a purged credential.
CREATE FUNCTION keep_data_key() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.data_key IS DISTINCT FROM OLD.data_key AND NEW.purged_at IS NULL
       AND current_setting('jexlin.rewrapping', true) IS DISTINCT FROM NEW.organisation::text THEN
        RAISE EXCEPTION 'a data key is never overwritten';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER credential_key_kept BEFORE UPDATE OF data_key ON credential FOR EACH ROW EXECUTE FUNCTION keep_data_key();

-- Attachments go to the bin, too.
ALTER TABLE attachment ADD COLUMN removed_at timestamptz, ADD COLUMN removal_id uuid REFERENCES removal;
CREATE INDEX attachment_removal ON attachment (removal_id) WHERE removal_id IS NOT NULL;
DROP INDEX attachment_name;
CREATE UNIQUE INDEX attachment_name ON attachment (credential_id, lower(name)) WHERE heard_at IS NULL AND removed_at IS NULL;
DO $$
DECLARE
    c text;
BEGIN
    FOR c IN SELECT conname FROM pg_constraint WHERE conrelid = 'removal'::regclass AND contype = 'c' AND pg_get_constraintdef(oid) LIKE '%sort%' LOOP
        EXECUTE format('ALTER TABLE removal DROP CONSTRAINT %I', c);
    END LOOP;
END $$;
ALTER TABLE removal ADD CONSTRAINT removal_sort CHECK (sort IN ('credential', 'device', 'folder', 'import', 'attachment'));

-- From where somebody has signed in: a wrong password that somebody else tries elsewhere does not keep
-- them out here.
CREATE TABLE sign_in_place (
    organisation uuid NOT NULL REFERENCES organisation,
    name text NOT NULL,
    origin text NOT NULL,
    signed_in_at timestamptz NOT NULL,
    PRIMARY KEY (organisation, name, origin)
);
-- Refusals of strangers are counted, and recorded once a minute.
CREATE TABLE stranger_refusal (
    organisation uuid NOT NULL REFERENCES organisation,
    action text NOT NULL,
    since timestamptz NOT NULL,
    count bigint NOT NULL,
    origins text[] NOT NULL DEFAULT '{}',
    PRIMARY KEY (organisation, action)
);
DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['sign_in_place', 'stranger_refusal'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY inside ON %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t);
        EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO jexlin_service', t);
    END LOOP;
END $$;

-- A vault that somebody closed: whichever service has the keys in memory, nothing that leaves an event
-- is committed until it is opened again, and no secret is opened without its event.
ALTER TABLE organisation ADD COLUMN locked_at timestamptz;
CREATE FUNCTION tell_lock() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM set_config('jexlin.locks', 'yes', true);
    PERFORM pg_notify('jexlin_live', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;
CREATE TRIGGER organisation_locked AFTER UPDATE OF locked_at ON organisation FOR EACH ROW EXECUTE FUNCTION tell_lock();
CREATE OR REPLACE FUNCTION must_be_recorded(session uuid) RETURNS void LANGUAGE plpgsql AS $$
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
    IF current_setting('jexlin.locks', true) IS DISTINCT FROM 'yes'
        AND EXISTS (SELECT FROM organisation o WHERE o.id = scope() AND o.locked_at IS NOT NULL) THEN
        RAISE EXCEPTION 'the vault is locked';
    END IF;
END $$;
-- Before a scope is known: whose vault is not closed.
CREATE FUNCTION open_organisations() RETURNS SETOF uuid LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS $$ SELECT o.id FROM organisation o WHERE o.locked_at IS NULL $$;
-- Who administers people and rules so far may close the vault as well.
UPDATE person SET duties = array_append(duties, 'recovery') WHERE duties @> '{people,policy}' AND NOT duties @> '{recovery}';

-- Functions that run with the owner's rights look for nothing in a schema that others can write to.
DO $$
DECLARE
    f record;
BEGIN
    FOR f IN SELECT p.oid::regprocedure AS name FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
             WHERE p.prosecdef AND n.nspname = 'public' LOOP
        EXECUTE format('ALTER FUNCTION %s SET search_path = public, pg_temp', f.name);
    END LOOP;
END $$;

-- Row-level security binds the owner, too. A later migration that changes rows sets the organisation for
-- each, or lifts this for itself.
DO $$
DECLARE
    t text;
BEGIN
    FOR t IN SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'public' AND c.relkind = 'r' AND c.relrowsecurity LOOP
        EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
    END LOOP;
    -- What only functions look at is the owner's alone, and of one organisation at a time.
    FOREACH t IN ARRAY ARRAY['access_note', 'access_floor'] LOOP
        EXECUTE format('CREATE POLICY inside ON %I TO %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t, current_user);
    END LOOP;
    -- Which organisations there are is asked before one is chosen.
    EXECUTE format('CREATE POLICY named ON organisation FOR SELECT TO %I USING (true)', current_user);
END $$;
