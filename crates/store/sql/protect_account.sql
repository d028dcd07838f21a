-- An account stays what it is.
CREATE OR REPLACE FUNCTION protect_account()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    IF (NEW.organisation, NEW.device_id, NEW.family, NEW.login_key) IS DISTINCT FROM (OLD.organisation, OLD.device_id, OLD.family, OLD.login_key) THEN
        RAISE EXCEPTION 'an account is never renamed or moved';
    END IF;
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER account_kept BEFORE UPDATE ON account FOR EACH ROW EXECUTE FUNCTION protect_account();
