-- Whether the way to a device is another than a binding of it was made for: the jump host that somebody signs in to,
-- or, for a device that proves no identity, any jump host at all.
-- In PL/pgSQL its plan is kept; in SQL it would be planned with each call.
CREATE OR REPLACE FUNCTION way_changed(device uuid)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN EXISTS (
        SELECT FROM device d
        JOIN binding b ON b.device_id = d.id
        LEFT JOIN device h ON h.id = d.jump_host_id AND h.removed_at IS NULL
        WHERE d.id = $1 AND CASE
            WHEN b.role = 'jump-host' THEN (b.address, b.port, b.identity) IS DISTINCT FROM (h.address, h.port, h.identity) OR b.identity = ''
            WHEN b.identity IN ('', 'unproven') THEN b.way <> coalesce(h.address || ' port ' || h.port || E'\n' || h.identity, '')
            ELSE false
        END);
END
$$;
