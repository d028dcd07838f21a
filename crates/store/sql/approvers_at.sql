-- The active people who may approve at a gate, directly or through groups.
CREATE OR REPLACE FUNCTION approvers_at(gate uuid)
    RETURNS SETOF uuid
    LANGUAGE sql
    STABLE
AS $$
    SELECT p.id FROM person p WHERE p.state = 'active' AND p.person_type = 'person'
      AND EXISTS (SELECT FROM gate_approver a WHERE a.gate_id = $1 AND a.subject = ANY (subjects_of(p.id)))
$$;
