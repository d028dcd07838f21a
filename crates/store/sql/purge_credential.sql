-- Empties a credential that is in the bin permanently. The row stays, empty, since jobs, requests and
-- checkouts of the past speak of it; its key and its secrets are gone.
CREATE OR REPLACE FUNCTION purge_credential(wanted uuid, at timestamp with time zone)
    RETURNS void
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
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
    -- In the order in which assessment locks them.
    DELETE FROM assessment j WHERE j.credential_id = wanted;
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
REVOKE ALL ON FUNCTION purge_credential(uuid,timestamp with time zone) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION purge_credential(uuid,timestamp with time zone) TO jexlin_service;
