-- No key is lost: the wrapped key changes only to the one that was prepared, or with the former one kept;
-- and that goes only when nothing needs it.
CREATE OR REPLACE FUNCTION protect_organisation_key()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
DECLARE
    advances boolean := NEW.key_number = OLD.key_number + 1 AND OLD.former_key IS NULL AND NEW.former_key IS NOT NULL AND OLD.next_wrapped_key IS NULL;
BEGIN
    IF NEW.key_number <> OLD.key_number AND NOT advances THEN
        RAISE EXCEPTION 'the numbers of an organisation key go up by one';
    END IF;
    IF NEW.wrapped_key <> OLD.wrapped_key AND NOT advances
        AND (NEW.wrapped_key IS DISTINCT FROM OLD.next_wrapped_key OR NEW.root_key IS DISTINCT FROM OLD.next_root_key) THEN
        RAISE EXCEPTION 'an organisation key is never overwritten';
    END IF;
    IF NEW.former_key IS DISTINCT FROM OLD.former_key AND NOT advances
        AND (NEW.former_key IS NOT NULL OR EXISTS (SELECT FROM credential c WHERE c.organisation = NEW.id AND c.key_number < NEW.key_number AND c.data_key <> '')) THEN
        RAISE EXCEPTION 'data keys are still under the former organisation key';
    END IF;
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER organisation_key_kept BEFORE UPDATE ON organisation FOR EACH ROW EXECUTE FUNCTION protect_organisation_key();
