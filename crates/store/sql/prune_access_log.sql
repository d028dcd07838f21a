-- Notes that are older than the last call go. Those of a database that was copied elsewhere are of
-- transactions that are yet to come there; they go as well.
CREATE OR REPLACE FUNCTION prune_access_log()
    RETURNS void
    LANGUAGE plpgsql
    SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$
DECLARE
    current pg_snapshot := pg_current_snapshot();
    floor access_floor;
BEGIN
    SELECT f.* INTO floor FROM access_floor f WHERE f.organisation = scope() FOR UPDATE;
    IF NOT FOUND THEN
        INSERT INTO access_floor VALUES (scope(), '0', pg_snapshot_xmin(current)) ON CONFLICT DO NOTHING;
    ELSIF floor.next > pg_snapshot_xmax(current) THEN
        DELETE FROM access_note a WHERE a.organisation = scope() AND a.xid > pg_snapshot_xmax(current);
        UPDATE access_floor f SET gone_before = '0', next = pg_snapshot_xmin(current) WHERE f.organisation = scope();
    ELSE
        DELETE FROM access_note a WHERE a.organisation = scope() AND a.xid < floor.next;
        UPDATE access_floor f SET gone_before = floor.next, next = pg_snapshot_xmin(current) WHERE f.organisation = scope();
    END IF;
END $$;
REVOKE ALL ON FUNCTION prune_access_log() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION prune_access_log() TO jexlin_service;
