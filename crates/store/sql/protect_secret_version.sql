-- Promise 2 stays with the database: versions go only with the whole credential, only from the
-- bin, and only through the function below.
CREATE OR REPLACE FUNCTION protect_secret_version()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        IF current_setting('jexlin.purging', true) IS NOT DISTINCT FROM OLD.credential_id::text THEN
            RETURN OLD;
        END IF;
        RAISE EXCEPTION 'a secret version is never deleted';
    END IF;
    IF (NEW.organisation, NEW.credential_id, NEW.field, NEW.number, NEW.sealed, NEW.made_at) IS DISTINCT FROM
       (OLD.organisation, OLD.credential_id, OLD.field, OLD.number, OLD.sealed, OLD.made_at) THEN
        RAISE EXCEPTION 'a secret version is never overwritten';
    END IF;
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER secret_version_kept BEFORE DELETE OR UPDATE ON secret_version FOR EACH ROW EXECUTE FUNCTION protect_secret_version();
