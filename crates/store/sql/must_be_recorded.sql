CREATE OR REPLACE FUNCTION must_be_recorded(session uuid, number integer)
    RETURNS void
    LANGUAGE plpgsql
AS $$
DECLARE
    here record;
BEGIN
    IF current_setting('jexlin.recorded', true) IS DISTINCT FROM 'yes' THEN
        RAISE EXCEPTION 'no audit event is in this transaction';
    END IF;
    IF current_setting('jexlin.revalidate', true) IS NOT DISTINCT FROM 'due' THEN
        RAISE EXCEPTION 'requests and checkouts were not revalidated';
    END IF;
    IF session IS NOT NULL AND NOT EXISTS (
        SELECT FROM session s JOIN person p ON p.id = s.person_id WHERE s.id = session AND s.ended_at IS NULL AND p.state = 'active') THEN
        RAISE EXCEPTION 'the session is over' USING CONSTRAINT = 'session_over';
    END IF;
    PERFORM pg_advisory_xact_lock_shared(commit_lock());
    SELECT o.locked_at, o.key_number INTO here FROM organisation o WHERE o.id = scope();
    IF here.locked_at IS NOT NULL AND current_setting('jexlin.locks', true) IS DISTINCT FROM 'yes' THEN
        RAISE EXCEPTION 'the vault is locked' USING CONSTRAINT = 'vault_locked';
    END IF;
    IF here.key_number <> number THEN
        RAISE EXCEPTION 'the keys have changed' USING CONSTRAINT = 'keys_changed';
    END IF;
END $$;
