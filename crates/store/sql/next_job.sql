-- The next job that may run, held until the transaction ends: no device has more than `most_per_device` at a
-- time, nobody who asks for jobs more than `most_per_asker`, and a device that is paused gets none that needs
-- its operator. What has the fewest running for the same device comes first.
CREATE OR REPLACE FUNCTION next_job(at timestamp with time zone, most_per_device bigint, most_per_asker bigint)
    RETURNS uuid
    LANGUAGE plpgsql
AS $$
BEGIN
    RETURN (
        SELECT j.id FROM job j JOIN device d ON d.id = j.device_id
        CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE r.device_id = j.device_id) AS device, count(*) FILTER (WHERE r.asked_by = j.asked_by) AS asker
                            FROM job r WHERE r.state = 'running' AND r.leased_until > at AND (r.device_id = j.device_id OR r.asked_by = j.asked_by)) busy
        WHERE ((j.state = 'queued' AND j.not_before <= at) OR (j.state = 'running' AND j.leased_until <= at))
          AND busy.device < most_per_device AND busy.asker < most_per_asker
          AND (d.paused_at IS NULL OR j.task = 'check' OR j.method = 'self')
        ORDER BY busy.device, j.not_before, j.id LIMIT 1 FOR UPDATE OF j SKIP LOCKED);
END
$$;
