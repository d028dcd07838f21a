-- A gate on a credential counts in its folder.
CREATE OR REPLACE FUNCTION log_gate_change()
    RETURNS trigger
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
DECLARE
    it gate := CASE WHEN TG_OP = 'DELETE' THEN OLD ELSE NEW END;
BEGIN
    INSERT INTO access_note (organisation, target_type, id)
        SELECT it.organisation, 'folder', coalesce(it.folder_id, (SELECT c.folder_id FROM credential c WHERE c.id = it.credential_id))
        UNION ALL SELECT it.organisation, 'single', it.credential_id WHERE it.credential_id IS NOT NULL;
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER gate_new AFTER INSERT ON gate FOR EACH ROW WHEN ((new.device_id IS NULL)) EXECUTE FUNCTION log_gate_change();
CREATE OR REPLACE TRIGGER gate_gone AFTER DELETE ON gate FOR EACH ROW WHEN ((old.device_id IS NULL)) EXECUTE FUNCTION log_gate_change();
