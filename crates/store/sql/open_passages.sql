-- All requests that wait or may be used and all open checkouts, with what they depend on now.
CREATE OR REPLACE FUNCTION open_passages(at timestamp with time zone)
    RETURNS TABLE(id uuid, is_request boolean, credential_id uuid, held smallint, active boolean, gates uuid[])
    LANGUAGE sql
    STABLE
AS $$
    SELECT s.id, s.is_request, s.credential_id, level_on_credential(s.person_id, s.credential_id, $1) AS held, p.state = 'active' AS active,
           gates_of(s.credential_id) AS gates
    FROM (SELECT r.id, true AS is_request, r.credential_id, r.person_id FROM request r
          WHERE r.state = 'waiting' OR (r.state = 'approved' AND r.checkout_id IS NULL)
          UNION ALL SELECT k.id, false, k.credential_id, k.person_id FROM checkout k WHERE k.ended_at IS NULL) s
    JOIN person p ON p.id = s.person_id ORDER BY s.id
$$;
