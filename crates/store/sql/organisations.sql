-- Before a scope is known: which organisations there are.
CREATE OR REPLACE FUNCTION organisations()
    RETURNS TABLE(id uuid, name text)
    LANGUAGE sql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$ SELECT o.id, o.name FROM organisation o ORDER BY o.name $$;
