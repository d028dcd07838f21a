-- A page of the credentials that the viewer may know of, with all that a list shows. What `findings_of` says
-- of one credential is said here of a whole page at once.
DROP FUNCTION IF EXISTS credential_page(uuid,timestamp with time zone,bigint,text,uuid,integer,integer,integer,integer,jsonb);
CREATE OR REPLACE FUNCTION credential_page(viewer uuid, at timestamp with time zone, size bigint, after_name text, after_id uuid, weak_below integer, old_days integer, soon_days integer, many_folders integer, wanted jsonb)
    RETURNS TABLE(id uuid, folder_id uuid, kind text, name text, fields jsonb, held smallint, device_id uuid, tags text[], changed_at timestamp with time zone, device_name text,
        check_outcome text, gated boolean, place text, favourite boolean, own_grants boolean, shared boolean, findings text[], total bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH RECURSIVE page AS MATERIALIZED (
        SELECT c.id, c.folder_id, c.kind, c.name, c.fields, c.device_id, c.tags, c.changed_at, a.level AS held, a.place AS number, a.total
        FROM page_of($1, $2, $4, $5, $3, $9, $10) a JOIN credential c ON c.id = a.found
    ), up(folder_id, id, parent_id, name, depth) AS (
        SELECT f.id, f.id, f.parent_id, f.name, 0 FROM (SELECT DISTINCT p.folder_id FROM page p) v
        CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = v.folder_id OFFSET 0) f
        UNION ALL
        SELECT up.folder_id, f.id, f.parent_id, f.name, up.depth + 1 FROM up
        CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = up.parent_id OFFSET 0) f WHERE up.depth < 1000
    ), places AS MATERIALIZED (
        SELECT up.folder_id, string_agg('/' || up.name, '' ORDER BY up.depth DESC) AS place, bool_or(g.id IS NOT NULL) AS gated
        FROM up LEFT JOIN gate g ON g.folder_id = up.id AND g.credential_id IS NULL GROUP BY 1
    )
    SELECT p.id, p.folder_id, p.kind, p.name, p.fields, p.held, p.device_id, p.tags, p.changed_at, d.name AS device_name, u.check_outcome,
           l.gated OR EXISTS (SELECT FROM gate g WHERE g.credential_id = p.id) OR (p.device_id IS NOT NULL AND cardinality(gates_of(p.id)) > 0) AS gated, l.place,
           EXISTS (SELECT FROM favourite v WHERE v.person_id = $1 AND v.credential_id = p.id) AS favourite,
           w.others IS NOT NULL AS own_grants,
           coalesce(w.others, false) OR EXISTS (SELECT FROM folder_source s JOIN access_grant g ON g.folder_id = s.source_id
               WHERE s.folder_id = p.folder_id AND g.person_id IS DISTINCT FROM $1 AND (g.ends_at IS NULL OR $2 < g.ends_at)
                 AND (g.only_kind IS NULL OR g.only_kind = p.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (p.tags))) AS shared,
           CASE WHEN p.held < 3 THEN '{}'::text[] ELSE array_remove(ARRAY[
               CASE WHEN z.seen AND j.leaked > 0 THEN 'leaked' END,
               CASE WHEN u.check_outcome = 'out-of-sync' THEN 'out-of-sync' END,
               CASE WHEN z.seen AND j.score < $6 THEN 'weak' END,
               CASE WHEN z.seen AND EXISTS (SELECT FROM (SELECT c.id FROM assessment o JOIN credential c ON c.id = o.credential_id
                                 WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> p.id AND c.removed_at IS NULL
                                 OFFSET 0) same WHERE sees_value($1, same.id, $2)) THEN 'reused' END,
               CASE WHEN x.ends < $2::date THEN 'expired' END,
               CASE WHEN z.seen AND cardinality(j.lacks) > 0 THEN 'breaks-policy' END,
               CASE WHEN x.ends >= $2::date AND x.ends < $2::date + $8 THEN 'expires-soon' END,
               CASE WHEN $7 > 0 AND j.made_at < $2 - make_interval(days => $7) THEN 'old' END], NULL) END AS findings,
           p.total
    FROM page p JOIN places l ON l.folder_id = p.folder_id LEFT JOIN device d ON d.id = p.device_id LEFT JOIN upkeep_state u ON u.credential_id = p.id
    LEFT JOIN assessment j ON j.credential_id = p.id
    CROSS JOIN LATERAL (SELECT bool_or(g.person_id IS DISTINCT FROM $1) AS others FROM access_grant g
                        WHERE g.credential_id = p.id AND (g.ends_at IS NULL OR $2 < g.ends_at)) w
    CROSS JOIN LATERAL (SELECT CASE WHEN p.fields->>'expires' ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$' THEN to_date(p.fields->>'expires', 'YYYY-MM-DD') END AS ends) x
    CROSS JOIN LATERAL (SELECT NOT (l.gated OR p.device_id IS NOT NULL OR EXISTS (SELECT FROM gate g WHERE g.credential_id = p.id))
                               OR (p.held >= 3 AND sees_value($1, p.id, $2)) AS seen) z
    ORDER BY p.number
$$;
