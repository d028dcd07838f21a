-- The assessments of these credentials no longer count; those that have none get one that does not count.
CREATE OR REPLACE FUNCTION mark_assessments_stale(credentials uuid[])
    RETURNS void
    LANGUAGE sql
AS $$
    INSERT INTO assessment (credential_id, organisation, number, score, fingerprint, lacks, leaked, made_at, stale)
    SELECT c.id, c.organisation, 0, 4, uuid_send(c.id), '{}', 0, c.changed_at, true FROM credential c WHERE c.id = ANY ($1)
    ON CONFLICT (credential_id) DO UPDATE SET stale = true
$$;
