-- The folders that somebody sees: those a grant reaches, those that hold a credential a grant reaches, and
-- the path to each.
CREATE OR REPLACE FUNCTION visible_folders(person uuid, at timestamp with time zone)
    RETURNS TABLE(id uuid, parent_id uuid, name text, closed boolean, revision integer, held smallint, own_grants boolean, to_others boolean)
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE mine AS MATERIALIZED (
        SELECT g.folder_id, g.credential_id, g.only_kind, g.only_tag, max(g.held) AS held FROM access_grant g
        WHERE (g.person_id = $1 OR g.group_id = ANY ((SELECT subjects_of($1))::uuid[])) AND (g.ends_at IS NULL OR $2 < g.ends_at)
        GROUP BY 1, 2, 3, 4
    ), reached AS MATERIALIZED (
        SELECT s.folder_id AS id, max(m.held) AS held FROM mine m JOIN folder_source s ON s.source_id = m.folder_id
        WHERE m.only_kind IS NULL AND m.only_tag IS NULL GROUP BY 1
    ), seen(id) AS (
        SELECT id FROM reached
        UNION
        SELECT c.folder_id FROM mine m JOIN credential c ON c.id = m.credential_id WHERE c.removed_at IS NULL
        UNION
        SELECT c.folder_id FROM mine m JOIN folder_source s ON s.source_id = m.folder_id JOIN credential c ON c.folder_id = s.folder_id
        WHERE (m.only_kind IS NOT NULL OR m.only_tag IS NOT NULL) AND c.removed_at IS NULL
          AND (m.only_kind IS NULL OR m.only_kind = c.kind) AND (m.only_tag IS NULL OR m.only_tag = ANY (c.tags))
        UNION
        SELECT f.parent_id FROM seen JOIN folder f ON f.id = seen.id WHERE f.parent_id IS NOT NULL
    ), own AS MATERIALIZED (
        SELECT g.folder_id AS id, bool_or(g.person_id IS DISTINCT FROM $1) AS to_others FROM access_grant g
        WHERE g.folder_id IS NOT NULL AND (g.ends_at IS NULL OR $2 < g.ends_at) GROUP BY 1
    )
    SELECT f.id, f.parent_id, f.name, f.closed, f.revision, r.held, own.id IS NOT NULL AS own_grants, coalesce(own.to_others, false) AS to_others
    FROM seen JOIN folder f ON f.id = seen.id LEFT JOIN reached r ON r.id = f.id LEFT JOIN own ON own.id = f.id
    WHERE f.removed_at IS NULL ORDER BY lower(f.name), f.id
$$;
