-- Adds new credentials that are on no device. Arrays, so that the statement is the same for any number of
-- rows: to read one with a value for each column of each row takes the database longer than to insert them.
-- Tags come as JSON, since arrays in an array must be of one length.
CREATE OR REPLACE FUNCTION add_credentials(ids uuid[], folders uuid[], kinds text[], names text[], fields jsonb[], data_keys bytea[], created_at timestamp with time zone[], created_by uuid[], extra jsonb[], tags jsonb[])
    RETURNS void
    LANGUAGE sql
AS $$
    INSERT INTO credential (id, organisation, folder_id, kind, name, fields, data_key, created_at, created_by, changed_at, changed_by, extra, tags)
    SELECT id, scope(), folder_id, kind, name, fields, data_key, at, by, at, by, extra, ARRAY(SELECT jsonb_array_elements_text(tags))
    FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) AS new(id, folder_id, kind, name, fields, data_key, at, by, extra, tags)
$$;
