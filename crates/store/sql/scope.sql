-- The organisation of the transaction. Unset: null, and every policy below then shows nothing.
CREATE OR REPLACE FUNCTION scope()
    RETURNS uuid
    LANGUAGE sql
    STABLE
AS $$ SELECT nullif(current_setting('jexlin.organisation', true), '')::uuid $$;
