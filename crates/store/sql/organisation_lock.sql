-- The number of an advisory lock of this organisation. `Lock` in the store says which parts there are.
CREATE OR REPLACE FUNCTION organisation_lock(part bigint)
    RETURNS bigint
    LANGUAGE sql
    STABLE
AS $$
    SELECT hashtextextended(scope()::text, part)
$$;
