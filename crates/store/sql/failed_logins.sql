-- When logins to the same account failed: the same login at the same endpoint or identity, whatever
-- device of the vault it is reached through.
-- In PL/pgSQL its plan is kept; in SQL it would be planned with each call.
CREATE OR REPLACE FUNCTION failed_logins(wanted uuid, since timestamp with time zone)
    RETURNS SETOF timestamp with time zone
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN QUERY SELECT l.at FROM account a JOIN device d ON d.id = a.device_id
    JOIN account o ON o.family = a.family AND o.login_key = a.login_key
    JOIN device e ON e.id = o.device_id
    JOIN failed_login l ON l.account_id = o.id
    WHERE a.id = wanted AND l.at > since
      AND (o.id = a.id OR (lower(e.address) = lower(d.address) AND e.port = d.port) OR (e.identity = d.identity AND e.identity NOT IN ('', 'unproven') AND e.identity NOT LIKE '%@cert-authority%'));
END
$$;
