CREATE OR REPLACE FUNCTION log_grant_changes()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    INSERT INTO access_note (organisation, target_type, id)
        SELECT r.organisation, 'grant', r.id FROM rows r
        UNION ALL SELECT r.organisation, 'single', r.credential_id FROM rows r WHERE r.credential_id IS NOT NULL;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER access_grant_new AFTER INSERT ON access_grant REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION log_grant_changes();
CREATE OR REPLACE TRIGGER access_grant_other AFTER UPDATE ON access_grant REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION log_grant_changes();
CREATE OR REPLACE TRIGGER access_grant_gone AFTER DELETE ON access_grant REFERENCING OLD TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION log_grant_changes();
