-- Live news: what changed, never what it holds.
CREATE OR REPLACE FUNCTION notify_events()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM pg_notify('jexlin_events', NEW.organisation || ' ' || TG_TABLE_NAME || ' ' || NEW.id);
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER job_events AFTER INSERT OR UPDATE ON job FOR EACH ROW EXECUTE FUNCTION notify_events();
CREATE OR REPLACE TRIGGER request_events AFTER INSERT OR UPDATE ON request FOR EACH ROW EXECUTE FUNCTION notify_events();
CREATE OR REPLACE TRIGGER checkout_events AFTER INSERT OR UPDATE ON checkout FOR EACH ROW EXECUTE FUNCTION notify_events();
