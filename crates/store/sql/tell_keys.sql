CREATE OR REPLACE FUNCTION tell_keys()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM pg_notify('jexlin_live', NEW.id || ' organisation ' || NEW.id);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER organisation_keys_told AFTER UPDATE OF wrapped_key, former_key, next_wrapped_key ON organisation FOR EACH ROW EXECUTE FUNCTION tell_keys();
