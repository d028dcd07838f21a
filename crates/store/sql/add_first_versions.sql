-- Adds versions of secret fields of new credentials.
CREATE OR REPLACE FUNCTION add_first_versions(credentials uuid[], fields text[], numbers integer[], states text[], sealed bytea[], made_at timestamp with time zone[], made_by uuid[], made_how text[], reasons text[], facts jsonb[])
    RETURNS void
    LANGUAGE sql
AS $$
    INSERT INTO secret_version (organisation, credential_id, field, number, state, sealed, made_at, made_by, made_how, reason, facts)
    SELECT scope(), credential, field, number, state, sealed, at, by, how, reason, facts
    FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) AS new(credential, field, number, state, sealed, at, by, how, reason, facts)
$$;
