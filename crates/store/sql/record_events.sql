-- Records many events.
CREATE OR REPLACE FUNCTION record_events(ids uuid[], at timestamp with time zone[], actions text[], actors uuid[], actor_names text[], targets uuid[], target_types text[], target_names text[],
    origins text[], outcomes text[], details jsonb[], macs bytea[], key_number integer)
    RETURNS void
    LANGUAGE sql
AS $$
    INSERT INTO audit_event (id, organisation, at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac, key_number)
    SELECT id, scope(), at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac, $13
    FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
         AS new(id, at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac)
$$;
