-- Takes back the last failed login that was noted for an account, and that one only.
-- In PL/pgSQL its plan is kept; in SQL it would be planned with each call.
CREATE OR REPLACE FUNCTION forgive_login(wanted uuid)
    RETURNS void
    LANGUAGE plpgsql
AS $$
BEGIN
    DELETE FROM failed_login WHERE ctid = (SELECT ctid FROM failed_login WHERE account_id = $1 ORDER BY at DESC LIMIT 1);
END
$$;
