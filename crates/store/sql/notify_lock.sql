CREATE OR REPLACE FUNCTION notify_lock()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM set_config('jexlin.locks', 'yes', true);
    PERFORM pg_notify('jexlin_events', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER organisation_locked AFTER UPDATE OF locked_at ON organisation FOR EACH ROW EXECUTE FUNCTION notify_lock();
