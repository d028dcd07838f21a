-- Whether a person or a group, itself or through groups that it is in, is a steward of anything or an
-- approver at any gate where `without` is no steward; everything counts when nobody is named.
CREATE OR REPLACE FUNCTION brings_power(subject uuid, without uuid, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE sql
    STABLE
AS $$
    SELECT EXISTS (SELECT FROM access_grant g
                   WHERE (g.person_id = $1 OR g.group_id = ANY (subjects_of($1))) AND g.held = 5 AND (g.ends_at IS NULL OR $3 < g.ends_at)
                     AND ($2 IS NULL OR coalesce(level_on_folder($2, g.folder_id, $3), level_on_credential($2, g.credential_id, $3), 0) < 5))
        OR EXISTS (SELECT FROM gate_approver a JOIN gate t ON t.id = a.gate_id LEFT JOIN device d ON d.id = t.device_id
                   WHERE a.subject = ANY (subjects_of($1))
                     AND ($2 IS NULL OR coalesce(level_on_folder($2, coalesce(t.folder_id, d.folder_id), $3), level_on_credential($2, t.credential_id, $3), 0) < 5))
$$;
