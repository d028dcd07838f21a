CREATE OR REPLACE FUNCTION log_row_change()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        INSERT INTO access_note (organisation, target_type, id) VALUES (OLD.organisation, TG_ARGV[0], OLD.id);
    ELSE
        INSERT INTO access_note (organisation, target_type, id) VALUES (NEW.organisation, TG_ARGV[0], NEW.id);
    END IF;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER folder_other AFTER UPDATE ON folder FOR EACH ROW WHEN (((old.parent_id IS DISTINCT FROM new.parent_id) OR (old.closed <> new.closed) OR (old.name <> new.name))) EXECUTE FUNCTION log_row_change('folder');
CREATE OR REPLACE TRIGGER folder_gone AFTER DELETE ON folder FOR EACH ROW EXECUTE FUNCTION log_row_change('folder');
CREATE OR REPLACE TRIGGER person_other AFTER UPDATE ON person FOR EACH ROW WHEN (((old.display_name <> new.display_name) OR (old.state <> new.state))) EXECUTE FUNCTION log_row_change('person');
CREATE OR REPLACE TRIGGER person_gone AFTER DELETE ON person FOR EACH ROW EXECUTE FUNCTION log_row_change('person');
CREATE OR REPLACE TRIGGER people_group_other AFTER UPDATE ON people_group FOR EACH ROW WHEN ((old.name <> new.name)) EXECUTE FUNCTION log_row_change('group');
CREATE OR REPLACE TRIGGER people_group_gone AFTER DELETE ON people_group FOR EACH ROW EXECUTE FUNCTION log_row_change('group');
