-- After many rows have come at once: what the planner knows of the tables, as before, and the words of
-- all of them put into the index together, which an import has kept beside it meanwhile
-- (`gin_pending_list_limit`).
CREATE OR REPLACE FUNCTION analyze_after_import()
    RETURNS void
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    PERFORM gin_clean_pending_list('credential_search'), gin_clean_pending_list('credential_tags');
    ANALYZE credential, secret_version, assessment, folder, folder_source;
END $$;
REVOKE ALL ON FUNCTION analyze_after_import() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION analyze_after_import() TO jexlin_service;
