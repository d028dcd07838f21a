-- The next job that may run, held until the transaction ends: no device has more than `most_per_device` at a
-- time, nobody who asks for jobs more than `most_per_asker`, and a device that is paused gets none that needs
-- its operator. What has the fewest running for the same device comes first.
CREATE OR REPLACE FUNCTION next_job(at timestamp with time zone, most_per_device bigint, most_per_asker bigint)
    RETURNS uuid
    LANGUAGE plpgsql
AS $$
BEGIN
    RETURN (
        -- Counted once: a thousand jobs may wait.
        WITH running AS MATERIALIZED (
            SELECT r.device_id, r.asked_by FROM job r WHERE r.state = 'running' AND r.leased_until > at
        ), on_device AS MATERIALIZED (
            SELECT r.device_id, count(*) AS jobs FROM running r GROUP BY 1
        ), of_asker AS MATERIALIZED (
            SELECT r.asked_by, count(*) AS jobs FROM running r GROUP BY 1
        )
        SELECT j.id FROM job j JOIN device d ON d.id = j.device_id
        LEFT JOIN on_device b ON b.device_id = j.device_id LEFT JOIN of_asker a ON a.asked_by = j.asked_by
        WHERE ((j.state = 'queued' AND j.not_before <= at) OR (j.state = 'running' AND j.leased_until <= at))
          AND coalesce(b.jobs, 0) < most_per_device AND coalesce(a.jobs, 0) < most_per_asker
          AND (d.paused_at IS NULL OR j.task = 'check' OR j.method = 'self')
        ORDER BY coalesce(b.jobs, 0), j.not_before, j.id LIMIT 1 FOR UPDATE OF j SKIP LOCKED);
END
$$;
