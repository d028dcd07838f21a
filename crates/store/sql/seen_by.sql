-- What secrets somebody has seen, by the audit log itself, with the last time and how often; and since when
-- the main secret of each is what it is. The latest first.
CREATE OR REPLACE FUNCTION seen_by(person uuid, size bigint)
    RETURNS TABLE(credential uuid, last timestamp with time zone, times bigint, made_at timestamp with time zone)
    LANGUAGE sql
    STABLE
AS $$
    SELECT l.target, l.last, l.times, (SELECT v.made_at FROM secret_version v WHERE v.credential_id = l.target AND v.field = 'password' AND v.state = 'current')
    FROM (
        SELECT e.target, max(e.at) AS last, count(*) AS times FROM audit_event e
        WHERE e.actor = $1 AND e.action IN ('credential.reveal', 'credential.export') AND e.outcome = 'done' AND e.target IS NOT NULL
        GROUP BY e.target
    ) l WHERE EXISTS (SELECT FROM credential c WHERE c.id = l.target AND c.removed_at IS NULL)
    ORDER BY l.last DESC LIMIT $2
$$;
