CREATE OR REPLACE FUNCTION log_member_changes()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    INSERT INTO access_note (organisation, target_type, id) SELECT DISTINCT r.organisation, 'member', r.member FROM rows r;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER group_member_new AFTER INSERT ON group_member REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION log_member_changes();
CREATE OR REPLACE TRIGGER group_member_gone AFTER DELETE ON group_member REFERENCING OLD TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION log_member_changes();
