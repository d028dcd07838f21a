CREATE OR REPLACE FUNCTION notify_keys()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM pg_notify('jexlin_events', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER organisation_keys_told AFTER UPDATE OF wrapped_key, former_key, next_wrapped_key ON organisation FOR EACH ROW EXECUTE FUNCTION notify_keys();
