-- Whether a credential is an account of a device is decided here alone: `credential.device_id` follows.
CREATE OR REPLACE FUNCTION follow_account()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    IF TG_OP <> 'INSERT' AND OLD.credential_id IS DISTINCT FROM NEW.credential_id AND OLD.credential_id IS NOT NULL THEN
        UPDATE credential SET device_id = NULL WHERE id = OLD.credential_id AND organisation = OLD.organisation;
    END IF;
    IF NEW.credential_id IS NOT NULL THEN
        UPDATE credential SET device_id = NEW.device_id WHERE id = NEW.credential_id AND organisation = NEW.organisation;
    END IF;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER account_followed AFTER INSERT OR UPDATE OF credential_id ON account FOR EACH ROW EXECUTE FUNCTION follow_account();
