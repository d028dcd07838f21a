-- Of folders with many notes, one note of the sum. How many notes went.
CREATE OR REPLACE FUNCTION sum_credential_counts()
    RETURNS bigint
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
DECLARE
    gone bigint;
BEGIN
    WITH many AS (
        SELECT n.folder_id FROM folder_count n WHERE n.organisation = scope() GROUP BY 1 HAVING count(*) > 8
    ), taken AS (
        DELETE FROM folder_count n USING many WHERE n.folder_id = many.folder_id RETURNING n.organisation, n.folder_id, n.credentials
    ), kept AS (
        INSERT INTO folder_count SELECT t.organisation, t.folder_id, sum(t.credentials) FROM taken t GROUP BY 1, 2
    ) SELECT count(*) INTO gone FROM taken;
    RETURN gone;
END $$;
REVOKE ALL ON FUNCTION sum_credential_counts() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION sum_credential_counts() TO jexlin_service;
