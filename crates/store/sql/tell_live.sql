-- Live news: what changed, never what it holds.
CREATE OR REPLACE FUNCTION tell_live()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM pg_notify('jexlin_live', NEW.organisation || ' ' || TG_TABLE_NAME || ' ' || NEW.id);
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER job_live AFTER INSERT OR UPDATE ON job FOR EACH ROW EXECUTE FUNCTION tell_live();
CREATE OR REPLACE TRIGGER request_live AFTER INSERT OR UPDATE ON request FOR EACH ROW EXECUTE FUNCTION tell_live();
CREATE OR REPLACE TRIGGER checkout_live AFTER INSERT OR UPDATE ON checkout FOR EACH ROW EXECUTE FUNCTION tell_live();
