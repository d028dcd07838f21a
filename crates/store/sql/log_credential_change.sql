CREATE OR REPLACE FUNCTION log_credential_change()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    IF EXISTS (SELECT FROM access_grant g WHERE g.credential_id = OLD.id) THEN
        INSERT INTO access_note (organisation, target_type, id) VALUES (OLD.organisation, 'single', OLD.id);
    END IF;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER credential_other AFTER UPDATE ON credential FOR EACH ROW WHEN (((old.folder_id <> new.folder_id) OR ((old.removed_at IS NULL) <> (new.removed_at IS NULL)) OR (old.kind <> new.kind) OR (old.tags <> new.tags))) EXECUTE FUNCTION log_credential_change();
