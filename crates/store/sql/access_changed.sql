-- What this transaction has changed itself so far.
CREATE OR REPLACE FUNCTION access_changed()
    RETURNS TABLE(target_types text[], ids uuid[])
    LANGUAGE plpgsql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
BEGIN
    RETURN QUERY SELECT coalesce(array_agg(n.target_type), '{}'), coalesce(array_agg(n.id), '{}')
        FROM (SELECT DISTINCT a.target_type, a.id FROM access_note a WHERE a.organisation = scope() AND a.xid = pg_current_xact_id_if_assigned()) n;
END $$;
REVOKE ALL ON FUNCTION access_changed() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION access_changed() TO jexlin_service;
