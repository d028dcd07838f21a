-- How many of the accounts that the viewer may know of have which outcome of their last check.
CREATE OR REPLACE FUNCTION checks_counted(viewer uuid, at timestamp with time zone)
    RETURNS TABLE(check_outcome text, accounts bigint)
    LANGUAGE sql
    STABLE
AS $$
    SELECT a.check_outcome, count(*) FROM account a JOIN credential c ON c.id = a.credential_id
    WHERE c.removed_at IS NULL
      AND c.id IN (SELECT reached_of($1, $2, ARRAY(SELECT o.credential_id FROM account o WHERE o.credential_id IS NOT NULL)))
    GROUP BY 1
$$;
