-- The credentials that somebody looked at or used, by the audit log itself: the latest first, or those most
-- often used within their last two thousand looks.
CREATE OR REPLACE FUNCTION used_by(person uuid, most_often boolean, size bigint)
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    SELECT target FROM (
        SELECT e.target, e.seq FROM audit_event e
        WHERE e.actor = $1 AND e.action IN ('credential.reveal', 'credential.code') AND e.outcome = 'done' AND e.target IS NOT NULL
        ORDER BY e.seq DESC LIMIT 2000
    ) looks GROUP BY target ORDER BY CASE WHEN $2 THEN count(*) ELSE 0 END DESC, max(seq) DESC LIMIT $3
$$;
