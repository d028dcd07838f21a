-- Who looked at or used a credential last, and when, each person once.
CREATE OR REPLACE FUNCTION users_of(credential uuid, size bigint)
    RETURNS TABLE(actor uuid, last timestamp with time zone, times bigint)
    LANGUAGE sql
    STABLE
AS $$
    SELECT actor, max(at) AS last, count(*) AS times FROM (
        SELECT e.actor, e.at FROM audit_event e
        WHERE e.target = $1 AND e.action IN ('credential.reveal', 'credential.code') AND e.outcome = 'done' AND e.actor IS NOT NULL
        ORDER BY e.seq DESC LIMIT 5000
    ) looks GROUP BY actor ORDER BY max(at) DESC LIMIT $2
$$;
