CREATE OR REPLACE FUNCTION log_new_rows()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    INSERT INTO access_note (organisation, target_type, id) SELECT n.organisation, TG_ARGV[0], n.id FROM new_rows n;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER folder_new AFTER INSERT ON folder REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION log_new_rows('folder');
CREATE OR REPLACE TRIGGER person_new AFTER INSERT ON person REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION log_new_rows('person');
CREATE OR REPLACE TRIGGER people_group_new AFTER INSERT ON people_group REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION log_new_rows('group');
