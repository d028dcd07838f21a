-- What this transaction sees that a snapshot does not, `complete` if all of it is still noted. Without
-- a snapshot, nothing but where one is now. `writing` says that this transaction has changed something
-- itself, which nobody else may take for what is. It is asked at every question, and there is one good
-- plan for it: to make another each time would take five times as long as to follow it.
CREATE OR REPLACE FUNCTION access_log_since(since text)
    RETURNS TABLE(snapshot text, server timestamp with time zone, complete boolean, writing boolean, target_types text[], ids uuid[])
    LANGUAGE plpgsql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
    SET plan_cache_mode TO 'force_generic_plan'
    SET enable_seqscan TO 'off'
AS $$
DECLARE
    seen pg_snapshot := since::pg_snapshot;
BEGIN
    RETURN QUERY SELECT pg_current_snapshot()::text, pg_postmaster_start_time(),
        seen IS NOT NULL AND NOT EXISTS (SELECT FROM access_floor f WHERE f.organisation = scope() AND f.gone_before > pg_snapshot_xmin(seen)),
        pg_current_xact_id_if_assigned() IS NOT NULL, coalesce(array_agg(n.target_type), '{}'), coalesce(array_agg(n.id), '{}')
        FROM (SELECT DISTINCT a.target_type, a.id FROM access_note a
              WHERE a.organisation = scope() AND a.xid >= pg_snapshot_xmin(seen) AND NOT pg_visible_in_snapshot(a.xid, seen)) n;
END $$;
REVOKE ALL ON FUNCTION access_log_since(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION access_log_since(text) TO jexlin_service;
