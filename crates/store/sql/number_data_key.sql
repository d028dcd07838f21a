CREATE OR REPLACE FUNCTION number_data_key()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    -- A service that does not know of the newest key cannot commit: its event has another number.
    NEW.key_number := (SELECT o.key_number FROM organisation o WHERE o.id = NEW.organisation);
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER credential_key_numbered BEFORE INSERT ON credential FOR EACH ROW EXECUTE FUNCTION number_data_key();
