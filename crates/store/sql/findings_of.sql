-- What is wrong with a credential, in the words of the core, for somebody who may see its password.
-- Reuse is told of passwords alone that the asker may see too: otherwise a guess could be tried by
-- entering it somewhere and looking whether it is "reused".
CREATE OR REPLACE FUNCTION findings_of(wanted uuid, viewer uuid, at timestamp with time zone, weak_below integer, old_days integer, soon_days integer)
    RETURNS text[]
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    found text[] := '{}';
    j assessment%ROWTYPE;
    ends date;
    seen boolean := sees_value(viewer, wanted, at);
BEGIN
    SELECT * INTO j FROM assessment WHERE credential_id = wanted;
    IF seen AND j.leaked > 0 THEN found := found || 'leaked'::text; END IF;
    IF EXISTS (SELECT FROM upkeep_state u WHERE u.credential_id = wanted AND u.check_outcome = 'out-of-sync') THEN found := found || 'out-of-sync'::text; END IF;
    IF seen AND j.score < weak_below THEN found := found || 'weak'::text; END IF;
    -- OFFSET 0: whether the asker may see a password is looked up for those alone that are the same, whatever
    -- the planner thinks of tables that were never analysed.
    IF seen AND EXISTS (SELECT FROM (SELECT c.id FROM assessment o JOIN credential c ON c.id = o.credential_id
               WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> wanted AND c.removed_at IS NULL
               OFFSET 0) same WHERE sees_value(viewer, same.id, at)) THEN
        found := found || 'reused'::text;
    END IF;
    SELECT to_date(c.fields->>'expires', 'YYYY-MM-DD') INTO ends FROM credential c WHERE c.id = wanted AND c.fields->>'expires' ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$';
    IF ends < at::date THEN found := found || 'expired'::text; END IF;
    IF seen AND cardinality(j.lacks) > 0 THEN found := found || 'breaks-policy'::text; END IF;
    IF ends >= at::date AND ends < at::date + soon_days THEN found := found || 'expires-soon'::text; END IF;
    IF old_days > 0 AND j.made_at < at - make_interval(days => old_days) THEN found := found || 'old'::text; END IF;
    RETURN found;
END $$;
