CREATE OR REPLACE FUNCTION plan_of(account uuid)
    RETURNS uuid
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    found uuid;
    place uuid;
BEGIN
    SELECT p.id INTO found FROM upkeep_plan p WHERE p.account_id = account;
    IF found IS NOT NULL THEN RETURN found; END IF;
    SELECT c.folder_id INTO place FROM account a JOIN credential c ON c.id = a.credential_id WHERE a.id = account;
    WHILE place IS NOT NULL LOOP
        SELECT p.id INTO found FROM upkeep_plan p WHERE p.folder_id = place;
        IF found IS NOT NULL THEN RETURN found; END IF;
        SELECT f.parent_id INTO place FROM folder f WHERE f.id = place;
    END LOOP;
    RETURN NULL;
END $$;
