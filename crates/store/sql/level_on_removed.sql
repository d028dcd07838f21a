-- Access kept in order.
-- The level that reaches a person on everything that an act of removing took away. What an import
-- brought lies in many places, each of which can have been moved or closed by itself since.
CREATE OR REPLACE FUNCTION level_on_removed(person uuid, wanted uuid, at timestamp with time zone)
    RETURNS smallint
    LANGUAGE plpgsql
    STABLE
AS $$
DECLARE
    act removal;
    least smallint;
BEGIN
    SELECT r.* INTO act FROM removal r WHERE r.id = wanted;
    least := coalesce(level_on_folder(person, act.folder_id, at), 0);
    IF act.target_type = 'import' THEN
        least := least(least, (SELECT min(coalesce(level_on_folder(person, its.folder_id, at), 0))
            FROM (SELECT DISTINCT c.folder_id FROM credential c WHERE c.removal_id = wanted) AS its));
    END IF;
    RETURN nullif(least, 0);
END $$;
