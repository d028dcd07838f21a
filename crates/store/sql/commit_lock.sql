-- Whoever commits holds this lock together with all others that do; whoever locks the vault or changes a
-- key holds it alone, so that afterwards nobody commits who did not know of it.
CREATE OR REPLACE FUNCTION commit_lock()
    RETURNS bigint
    LANGUAGE sql
    STABLE
AS $$ SELECT hashtextextended(scope()::text, 14) $$;
