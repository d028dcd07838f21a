-- A data key is wrapped again only when it moves to the organisation's next key.
CREATE OR REPLACE FUNCTION protect_data_key()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
DECLARE
    moves boolean := NEW.key_number = OLD.key_number + 1
        AND NEW.key_number = (SELECT o.key_number FROM organisation o WHERE o.id = NEW.organisation);
BEGIN
    IF NEW.data_key IS DISTINCT FROM OLD.data_key AND NEW.purged_at IS NULL AND NOT moves THEN
        RAISE EXCEPTION 'a data key is never overwritten';
    END IF;
    IF NEW.key_number <> OLD.key_number AND NOT (moves AND NEW.data_key <> OLD.data_key) THEN
        RAISE EXCEPTION 'the number of a data key follows the key';
    END IF;
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER credential_key_kept BEFORE UPDATE OF data_key, key_number ON credential FOR EACH ROW EXECUTE FUNCTION protect_data_key();
