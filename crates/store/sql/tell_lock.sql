CREATE OR REPLACE FUNCTION tell_lock()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM set_config('jexlin.locks', 'yes', true);
    PERFORM pg_notify('jexlin_live', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER organisation_locked AFTER UPDATE OF locked_at ON organisation FOR EACH ROW EXECUTE FUNCTION tell_lock();
