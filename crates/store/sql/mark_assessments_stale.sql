-- The assessments of these credentials no longer count; those that have none get one that does not count.
-- In PL/pgSQL its plan is kept; in SQL it would be planned with each call.
CREATE OR REPLACE FUNCTION mark_assessments_stale(credentials uuid[])
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    INSERT INTO assessment (credential_id, organisation, number, score, fingerprint, lacks, leaked, made_at, stale)
    SELECT c.id, c.organisation, 0, 4, uuid_send(c.id), '{}', 0, c.changed_at, true FROM credential c WHERE c.id = ANY ($1)
    ON CONFLICT (credential_id) DO UPDATE SET stale = true;
END
$$;
