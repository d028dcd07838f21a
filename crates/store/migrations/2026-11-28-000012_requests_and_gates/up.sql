-- A request counts when it is carried out; gates add up; some acts wait for a second person.

-- Refuses a commit that is to hold an audit event when none went into its transaction, when the session
-- that it answers to has ended meanwhile, and when a change of gates, places or grants has not looked
-- again at what waits and what is held.
DROP FUNCTION must_be_recorded();
CREATE FUNCTION must_be_recorded(session uuid) RETURNS void LANGUAGE plpgsql AS $$
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
END $$;

-- Gates stand at a folder, a device or a credential.
ALTER TABLE gate ADD COLUMN device_id uuid,
    ADD CONSTRAINT gate_device FOREIGN KEY (organisation, device_id) REFERENCES device (organisation, id);
DO $$
DECLARE
    c text;
BEGIN
    SELECT conname INTO c FROM pg_constraint WHERE conrelid = 'gate'::regclass AND contype = 'c' AND pg_get_constraintdef(oid) LIKE '%num_nonnulls%';
    EXECUTE format('ALTER TABLE gate DROP CONSTRAINT %I', c);
END $$;
ALTER TABLE gate ADD CHECK (num_nonnulls(folder_id, device_id, credential_id) = 1);
DROP INDEX gate_place;
CREATE UNIQUE INDEX gate_place ON gate (folder_id, device_id, credential_id) NULLS NOT DISTINCT;
-- A gate on a device is counted where its accounts are looked at.
DROP TRIGGER gate_new ON gate;
DROP TRIGGER gate_gone ON gate;
CREATE TRIGGER gate_new AFTER INSERT ON gate FOR EACH ROW WHEN (NEW.device_id IS NULL) EXECUTE FUNCTION note_gate();
CREATE TRIGGER gate_gone AFTER DELETE ON gate FOR EACH ROW WHEN (OLD.device_id IS NULL) EXECUTE FUNCTION note_gate();

-- All gates on the way from the top to a credential, closed folders or not, and on the way to the device
-- whose account it is the password of, the device's own included.
CREATE FUNCTION gates_of(credential uuid) RETURNS uuid[] LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN coalesce((
        WITH RECURSIVE it AS MATERIALIZED (
            SELECT c.id, c.folder_id, c.device_id, d.folder_id AS device_folder FROM credential c LEFT JOIN device d ON d.id = c.device_id WHERE c.id = credential
        ), up(id) AS (
            SELECT it.folder_id FROM it
            UNION
            SELECT it.device_folder FROM it WHERE it.device_folder IS NOT NULL
            UNION
            SELECT f.parent_id FROM folder f JOIN up ON f.id = up.id WHERE f.parent_id IS NOT NULL
        )
        SELECT array_agg(g.id ORDER BY g.id) FROM gate g
        WHERE g.credential_id = credential OR g.device_id = (SELECT it.device_id FROM it) OR g.folder_id IN (SELECT up.id FROM up)), '{}');
END $$;
DROP FUNCTION gate_of(uuid);
CREATE FUNCTION gates_on_folder(folder_id uuid) RETURNS uuid[] LANGUAGE sql STABLE AS $$
    WITH RECURSIVE up(id) AS (
        SELECT folder_id
        UNION
        SELECT f.parent_id FROM folder f JOIN up ON f.id = up.id WHERE f.parent_id IS NOT NULL
    )
    SELECT coalesce(array_agg(g.id ORDER BY g.id), '{}') FROM gate g WHERE g.folder_id IN (SELECT up.id FROM up)
$$;

-- The gates that a request is for, at their versions when it was asked, and who approved at each.
CREATE TABLE request_gate (
    organisation uuid NOT NULL REFERENCES organisation,
    request_id uuid NOT NULL REFERENCES request ON DELETE CASCADE,
    gate_id uuid NOT NULL,
    gate_version integer NOT NULL,
    needs_approval boolean NOT NULL,
    approved_by uuid REFERENCES person,
    approved_at timestamptz,
    PRIMARY KEY (request_id, gate_id)
);
INSERT INTO request_gate (organisation, request_id, gate_id, gate_version, needs_approval, approved_by, approved_at)
    SELECT r.organisation, r.id, r.gate_id, coalesce(g.version, 0), true, CASE WHEN r.state = 'approved' THEN r.decided_by END, r.decided_at
    FROM request r LEFT JOIN gate g ON g.id = r.gate_id;
ALTER TABLE request DROP COLUMN gate_id;

-- The gates that a checkout was taken through, at their versions then.
CREATE TABLE checkout_gate (
    organisation uuid NOT NULL REFERENCES organisation,
    checkout_id uuid NOT NULL REFERENCES checkout ON DELETE CASCADE,
    gate_id uuid NOT NULL,
    gate_version integer NOT NULL,
    PRIMARY KEY (checkout_id, gate_id)
);
INSERT INTO checkout_gate SELECT k.organisation, k.id, g.id, g.version FROM checkout k JOIN gate g ON g.id = ANY (gates_of(k.credential_id)) WHERE k.ended_at IS NULL;
CREATE UNIQUE INDEX checkout_once_each ON checkout (credential_id, person_id) WHERE ended_at IS NULL;

-- Who made somebody's sign-in, or set their password last.
ALTER TABLE person ADD COLUMN sign_in_by uuid REFERENCES person;

-- A sensitive change that waits for a second person.
CREATE TABLE pending_act (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    act text NOT NULL,
    summary text NOT NULL,
    target_type text NOT NULL,
    target uuid NOT NULL,
    target_name text NOT NULL,
    body jsonb NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'confirmed', 'refused', 'withdrawn', 'expired')),
    proposed_by uuid NOT NULL REFERENCES person,
    proposed_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    decided_by uuid REFERENCES person,
    decided_at timestamptz,
    comment text NOT NULL DEFAULT '',
    CHECK (decided_by IS NULL OR state = 'withdrawn' OR decided_by <> proposed_by)
);
CREATE INDEX pending_act_recent ON pending_act (organisation, proposed_at DESC, id DESC);
CREATE INDEX pending_act_waiting ON pending_act (organisation, expires_at) WHERE state = 'waiting';

DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['request_gate', 'checkout_gate', 'pending_act'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY inside ON %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t);
    END LOOP;
END $$;
GRANT SELECT, INSERT, UPDATE ON request_gate, pending_act TO jexlin_service;
GRANT SELECT, INSERT ON checkout_gate TO jexlin_service;

-- What waits and what is held must be examined again after these, before the commit.
CREATE FUNCTION must_examine() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM set_config('jexlin.examine', 'due', true);
    RETURN NULL;
END $$;
CREATE TRIGGER gate_examined AFTER INSERT OR UPDATE OR DELETE ON gate FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER gate_approver_examined AFTER DELETE ON gate_approver FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER access_grant_examined AFTER UPDATE OR DELETE ON access_grant FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER group_member_examined AFTER DELETE ON group_member FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER folder_examined AFTER UPDATE OF parent_id, closed ON folder FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER credential_examined AFTER UPDATE OF folder_id ON credential FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER device_examined AFTER UPDATE OF folder_id ON device FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER account_examined AFTER UPDATE OF credential_id ON account FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE TRIGGER person_examined AFTER UPDATE OF state ON person FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
