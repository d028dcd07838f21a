-- How many credentials are in a folder, as before, and that it is another number now.
CREATE OR REPLACE FUNCTION count_new_credentials()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    WITH counted AS (
        INSERT INTO folder_count SELECT n.organisation, n.folder_id, count(*) FROM new_rows n WHERE n.removed_at IS NULL GROUP BY 1, 2
        RETURNING organisation, folder_id
    ) INSERT INTO access_note (organisation, target_type, id) SELECT c.organisation, 'folder', c.folder_id FROM counted c;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER credential_counted AFTER INSERT ON credential REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION count_new_credentials();
