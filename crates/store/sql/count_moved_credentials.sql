CREATE OR REPLACE FUNCTION count_moved_credentials()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    IF OLD.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (OLD.organisation, OLD.folder_id, -1);
        INSERT INTO access_note (organisation, target_type, id) VALUES (OLD.organisation, 'folder', OLD.folder_id);
    END IF;
    IF TG_OP = 'UPDATE' AND NEW.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (NEW.organisation, NEW.folder_id, 1);
        INSERT INTO access_note (organisation, target_type, id) VALUES (NEW.organisation, 'folder', NEW.folder_id);
    END IF;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER credential_moved AFTER UPDATE ON credential FOR EACH ROW WHEN (((old.folder_id IS DISTINCT FROM new.folder_id) OR ((old.removed_at IS NULL) <> (new.removed_at IS NULL)))) EXECUTE FUNCTION count_moved_credentials();
CREATE OR REPLACE TRIGGER credential_gone AFTER DELETE ON credential FOR EACH ROW EXECUTE FUNCTION count_moved_credentials();
