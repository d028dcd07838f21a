-- Requests with the names that people know, and with the gates at which the viewer is an approver: those that
-- are wanted, or those that concern the viewer, newest first. Whether the viewer may decide, core says.
DROP FUNCTION IF EXISTS requests_for(uuid,uuid,text,uuid,timestamp with time zone,uuid,bigint);
CREATE OR REPLACE FUNCTION requests_for(viewer uuid, wanted uuid[], in_state text, credential uuid, before_at timestamp with time zone, before_id uuid, size bigint)
    RETURNS TABLE(id uuid, credential_id uuid, credential_name text, place text, person_id uuid, person_name text, reason text, minutes integer, state text,
        asked_at timestamp with time zone, expires_at timestamp with time zone, decided_at timestamp with time zone, decided_by_name text, comment text,
        checkout_id uuid, viewer uuid, approver_at uuid[], approvals_needed bigint, approvals_given bigint)
    LANGUAGE sql
    STABLE
AS $$
    SELECT q.* FROM (
        SELECT r.id, r.credential_id, c.name AS credential_name, coalesce(path_of(c.folder_id), '') AS place, r.person_id, p.display_name AS person_name,
               r.reason, r.minutes, r.state, r.asked_at, r.expires_at, r.decided_at, d.display_name AS decided_by_name, r.comment, r.checkout_id, $1 AS viewer,
               ARRAY(SELECT q.gate_id FROM request_gate q WHERE q.request_id = r.id AND q.needs_approval
                     AND EXISTS (SELECT FROM gate_approver a WHERE a.gate_id = q.gate_id AND a.subject = ANY ((SELECT subjects_of($1))::uuid[]))) AS approver_at,
               (SELECT count(*) FROM request_gate q WHERE q.request_id = r.id AND q.needs_approval) AS approvals_needed,
               (SELECT count(*) FROM request_gate q WHERE q.request_id = r.id AND q.approved_by IS NOT NULL) AS approvals_given
        FROM request r
        JOIN credential c ON c.id = r.credential_id
        JOIN person p ON p.id = r.person_id
        LEFT JOIN person d ON d.id = r.decided_by
        WHERE ($2 IS NULL OR r.id = ANY ($2)) AND ($3 IS NULL OR r.state = $3) AND ($4 IS NULL OR r.credential_id = $4) AND (r.asked_at, r.id) < ($5, $6)
    ) q
    WHERE $2 IS NOT NULL OR q.person_id = $1 OR cardinality(q.approver_at) > 0
    ORDER BY q.asked_at DESC, q.id DESC LIMIT $7
$$;
