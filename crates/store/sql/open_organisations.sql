-- Before a scope is known: whose vault is not closed.
CREATE OR REPLACE FUNCTION open_organisations()
    RETURNS TABLE(id uuid, key_number integer, changing boolean)
    LANGUAGE sql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
AS $$ SELECT o.id, o.key_number, o.former_key IS NOT NULL FROM organisation o WHERE o.locked_at IS NULL $$;
