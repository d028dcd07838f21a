-- Notes what an import did to each credential.
CREATE OR REPLACE FUNCTION add_import_rows(import uuid, credentials uuid[], former jsonb[])
    RETURNS void
    LANGUAGE sql
AS $$
    INSERT INTO import_row (import_id, organisation, credential_id, former)
    SELECT $1, scope(), credential, former FROM unnest($2, $3) AS new(credential, former)
$$;
