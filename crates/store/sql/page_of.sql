-- One page of what somebody reaches and wants, in the order of names, with the level held.
--
-- Row-level security would keep the planner from every index on LIKE, on tags and on where a page
-- begins, since such operators could tell of rows that the policy hides. So the organisation is
-- named here instead, in every look, and identifiers alone come out.
--
-- Whoever reaches few folders has those looked through; for whoever reaches many each candidate is
-- asked for its folder. `many` says from how many on; left out, it is where both take about as long,
-- which grows with the square root of the number of folders.
--
-- `wanted` has, each if it is wanted: folder, below, words (patterns of LIKE), nearly (texts), name,
-- user_name, device (patterns), on (a device), kind, tag, check, finding, view, only (identifiers), and the
-- thresholds weak_below, old_days, soon_days. What is expensive to ask is asked of the rows in their
-- order until the page is full.
--
-- With sort (name, user-name, kind, device, folder, check or changed), maybe down and from, it is a
-- part of a table instead: in that order, after so many rows, with the number of all rows as total.
-- That takes a look at each of them.
--
-- Each narrowed grant is a condition of its own beside the folders that are reached. Plans are made
-- again for each call: one for any grants would read all folders.
DROP FUNCTION IF EXISTS page_of(uuid,timestamp with time zone,text,uuid,bigint,integer,jsonb);
CREATE OR REPLACE FUNCTION page_of(viewer uuid, at timestamp with time zone, after_name text, after_id uuid, most bigint, many integer, wanted jsonb)
    RETURNS TABLE(found uuid, level smallint, place bigint, total bigint)
    LANGUAGE plpgsql
    STABLE SECURITY DEFINER
    SET search_path TO 'public', 'pg_temp'
    SET plan_cache_mode TO 'force_custom_plan'
AS $$
DECLARE
    subjects uuid[] := subjects_of(viewer);
    least smallint := CASE WHEN wanted ? 'finding' THEN 3 ELSE 1 END;
    own boolean := coalesce(wanted->>'view' IN ('mine', 'with-nobody'), false);
    folders uuid[];
    held smallint[];
    counting uuid[];
    singles uuid[];
    singles_held smallint[];
    single_counting uuid[];
    within uuid[];
    few uuid[];
    devices uuid[];
    named uuid[];
    given uuid[];
    suspects uuid[];
    ids uuid[];
    word text;
    reach text;
    beside text := '';
    narrow record;
    cheap text := '';
    costly text := '';
    near text := '';
    sorted text := '';
    counted bigint;
    deep integer;
    enough boolean;
    granted text := '(g.ends_at IS NULL OR $2 < g.ends_at) AND (g.credential_id = c.id OR (g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = c.folder_id)
        AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))))';
BEGIN
    IF many IS NULL THEN
        SELECT greatest(16, sqrt(most * greatest(t.reltuples, 1) / 19))::integer INTO many FROM pg_class t WHERE t.oid = 'folder'::regclass;
    END IF;
    SELECT coalesce(array_agg(g.folder_id), '{}'), coalesce(array_agg(g.best), '{}'), coalesce(array_agg(g.folder_id) FILTER (WHERE g.counts), '{}')
    INTO folders, held, counting FROM (
        SELECT a.folder_id, max(a.held) AS best, bool_or(a.held >= least AND (NOT own OR (a.person_id IS NOT DISTINCT FROM viewer AND a.held = 5))) AS counts
        FROM access_grant a
        WHERE a.organisation = scope() AND a.folder_id IS NOT NULL AND a.only_kind IS NULL AND a.only_tag IS NULL AND (a.person_id = viewer OR a.group_id = ANY (subjects)) AND (a.ends_at IS NULL OR at < a.ends_at)
        GROUP BY 1) g;
    SELECT coalesce(array_agg(g.credential_id), '{}'), coalesce(array_agg(g.best), '{}'), coalesce(array_agg(g.credential_id) FILTER (WHERE g.counts), '{}')
    INTO singles, singles_held, single_counting FROM (
        SELECT a.credential_id, max(a.held) AS best, bool_or(a.held >= least AND (NOT own OR (a.person_id IS NOT DISTINCT FROM viewer AND a.held = 5))) AS counts
        FROM access_grant a
        WHERE a.organisation = scope() AND a.credential_id IS NOT NULL AND (a.person_id = viewer OR a.group_id = ANY (subjects)) AND (a.ends_at IS NULL OR at < a.ends_at)
        GROUP BY 1) g;

    FOR narrow IN SELECT a.folder_id, a.only_kind, a.only_tag FROM access_grant a
        WHERE a.organisation = scope() AND (a.only_kind IS NOT NULL OR a.only_tag IS NOT NULL) AND (a.person_id = viewer OR a.group_id = ANY (subjects))
          AND (a.ends_at IS NULL OR at < a.ends_at) AND a.held >= least AND (NOT own OR (a.person_id IS NOT DISTINCT FROM viewer AND a.held = 5)) LOOP
        beside := beside || format(' OR (%s%sEXISTS (SELECT FROM folder_source s WHERE s.folder_id = c.folder_id AND s.source_id = %L::uuid))',
            CASE WHEN narrow.only_kind IS NULL THEN '' ELSE format('c.kind = %L AND ', narrow.only_kind) END,
            CASE WHEN narrow.only_tag IS NULL THEN '' ELSE format('c.tags @> ARRAY[%L] AND ', narrow.only_tag) END, narrow.folder_id);
    END LOOP;

    IF wanted ? 'folder' THEN
        within := ARRAY[(wanted->>'folder')::uuid];
    ELSIF wanted ? 'below' THEN
        within := ARRAY(SELECT subtree_of((wanted->>'below')::uuid));
    END IF;
    IF within IS NULL THEN
        few := ARRAY(SELECT DISTINCT s.folder_id FROM folder_source s WHERE s.source_id = ANY (counting) LIMIT many);
    ELSE
        few := ARRAY(SELECT DISTINCT w.id FROM unnest(within) AS w(id)
                     WHERE (SELECT true FROM folder_source s WHERE s.folder_id = w.id AND s.source_id = ANY (counting) LIMIT 1));
        many := cardinality(few) + 1;
        IF cardinality(single_counting) > 0 OR beside <> '' THEN
            cheap := ' AND c.folder_id = ANY ($9)';
        END IF;
    END IF;
    reach := CASE WHEN cardinality(few) < many THEN 'c.folder_id = ANY ($7)'
                  ELSE '(SELECT true FROM folder_source s WHERE s.folder_id = c.folder_id AND s.source_id = ANY ($6) LIMIT 1)' END;
    IF cardinality(single_counting) > 0 THEN
        beside := beside || ' OR c.id = ANY ($8)';
    END IF;
    IF beside <> '' THEN
        reach := '(' || reach || beside || ')';
    END IF;

    FOR word IN SELECT jsonb_array_elements_text(wanted->'words') LOOP
        -- The index knows groups of three letters; fewer match nearly everything, and going through
        -- the names in their order is soon done.
        IF length(word) < 5 OR wanted ? 'folder' THEN
            cheap := cheap || format(
                ' AND (c.search LIKE %1$L OR (SELECT lower(f.name) LIKE %1$L FROM folder f WHERE f.id = c.folder_id)
                       OR (c.device_id IS NOT NULL AND (SELECT lower(v.name || '' '' || v.address) LIKE %1$L FROM device v WHERE v.id = c.device_id)))', word);
        ELSE
            devices := ARRAY(SELECT v.id FROM device v WHERE v.organisation = scope() AND lower(v.name || ' ' || v.address) LIKE word);
            named := ARRAY(SELECT f.id FROM folder f WHERE f.organisation = scope() AND f.removed_at IS NULL AND lower(f.name) LIKE word);
            cheap := cheap || format(' AND (c.search LIKE %L', word)
                || CASE WHEN cardinality(devices) > 0 THEN format(' OR c.device_id = ANY (%L::uuid[])', devices) ELSE '' END
                || CASE WHEN cardinality(named) > 0 THEN format(' OR c.folder_id = ANY (%L::uuid[])', named) ELSE '' END || ')';
        END IF;
    END LOOP;
    FOR word IN SELECT jsonb_array_elements_text(wanted->'nearly') LOOP
        ids := CASE WHEN near = '' THEN ARRAY(SELECT resembling(word)) ELSE ARRAY(SELECT unnest(ids) INTERSECT SELECT resembling(word)) END;
        near := near || format('greatest(word_similarity(%1$L, c.search), (SELECT word_similarity(%1$L, lower(f.name)) FROM folder f WHERE f.id = c.folder_id),
            (SELECT word_similarity(%1$L, lower(v.name || '' '' || v.address)) FROM device v WHERE v.id = c.device_id)) + ', word);
    END LOOP;
    IF near <> '' THEN
        cheap := cheap || format(' AND c.id = ANY (%L::uuid[])', ids);
        near := near || '0 DESC, ';
    END IF;
    IF wanted ? 'name' THEN
        -- The name is at the beginning of what is searched; that has the index.
        cheap := cheap || format(' AND c.search LIKE %1$L AND lower(c.name) LIKE %1$L', wanted->>'name');
    END IF;
    IF wanted ? 'user_name' THEN
        cheap := cheap || format(' AND lower(coalesce(c.fields->>''user_name'', '''')) LIKE %L', wanted->>'user_name');
    END IF;
    IF wanted ? 'kind' THEN
        cheap := cheap || format(' AND c.kind = %L', wanted->>'kind');
    END IF;
    IF wanted ? 'tag' THEN
        cheap := cheap || format(' AND c.tags @> ARRAY[%L]', wanted->>'tag');
    END IF;
    IF wanted ? 'on' THEN
        cheap := cheap || format(' AND c.device_id = %L::uuid', wanted->>'on');
    END IF;
    IF wanted ? 'device' THEN
        cheap := cheap || format(' AND c.device_id = ANY (%L::uuid[])',
            ARRAY(SELECT v.id FROM device v WHERE v.organisation = scope() AND lower(v.name) LIKE wanted->>'device'));
    END IF;
    IF wanted ? 'check' THEN
        cheap := cheap || format(' AND c.id = ANY (%L::uuid[])',
            ARRAY(SELECT u.credential_id FROM upkeep_state u WHERE u.organisation = scope() AND u.check_outcome = wanted->>'check'));
    END IF;
    IF wanted ? 'only' THEN
        cheap := cheap || format(' AND c.id = ANY (%L::uuid[])', ARRAY(SELECT jsonb_array_elements_text(wanted->'only')));
    END IF;
    IF wanted ? 'finding' THEN
        -- What could have it is looked up first; where that is very much, a page of it is soon found
        -- by going through the names.
        suspects := ARRAY(SELECT x.id FROM (
            SELECT j.credential_id AS id FROM assessment j WHERE j.organisation = scope() AND j.leaked > 0 AND wanted->>'finding' IN ('any', 'leaked')
            UNION ALL
            SELECT u.credential_id FROM upkeep_state u WHERE u.organisation = scope() AND u.check_outcome = 'out-of-sync' AND wanted->>'finding' IN ('any', 'out-of-sync')
            UNION ALL
            SELECT j.credential_id FROM assessment j WHERE j.organisation = scope() AND j.score < (wanted->>'weak_below')::integer AND wanted->>'finding' IN ('any', 'weak')
            UNION ALL
            SELECT j.credential_id FROM assessment j WHERE j.organisation = scope() AND cardinality(j.lacks) > 0 AND wanted->>'finding' IN ('any', 'breaks-policy')
            UNION ALL
            SELECT c.id FROM credential c WHERE c.organisation = scope() AND c.removed_at IS NULL AND c.fields ? 'expires' AND wanted->>'finding' IN ('any', 'expired', 'expires-soon')
            UNION ALL
            SELECT j.credential_id FROM assessment j WHERE j.organisation = scope() AND (wanted->>'old_days')::integer > 0
                AND j.made_at < at - make_interval(days => (wanted->>'old_days')::integer) AND wanted->>'finding' IN ('any', 'old')
            UNION ALL
            SELECT unnest(t.same) FROM (SELECT array_agg(j.credential_id) AS same FROM assessment j WHERE j.organisation = scope() GROUP BY j.fingerprint HAVING count(*) > 1) t
                WHERE wanted->>'finding' IN ('any', 'reused')
            LIMIT 20001) x);
        IF cardinality(suspects) <= 20000 THEN
            cheap := cheap || format(' AND c.id = ANY (%L::uuid[])', suspects);
        END IF;
        costly := costly || format(' AND CASE %1$L WHEN ''any'' THEN cardinality(f.all) > 0 ELSE %1$L = ANY (f.all) END', wanted->>'finding');
    END IF;
    CASE wanted->>'view'
        WHEN 'favourites' THEN
            cheap := cheap || ' AND c.id IN (SELECT v.credential_id FROM favourite v WHERE v.person_id = $1)';
        WHEN 'shared-with-me' THEN
            costly := costly || format(' AND NOT EXISTS (SELECT FROM access_grant g WHERE g.person_id = $1 AND g.held = 5 AND %s)', granted);
        WHEN 'shared-by-me' THEN
            given := ARRAY(SELECT DISTINCT s.folder_id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id
                           WHERE g.organisation = scope() AND g.created_by = viewer AND g.person_id IS DISTINCT FROM viewer AND (g.ends_at IS NULL OR at < g.ends_at));
            named := ARRAY(SELECT g.credential_id FROM access_grant g
                           WHERE g.organisation = scope() AND g.created_by = viewer AND g.person_id IS DISTINCT FROM viewer AND (g.ends_at IS NULL OR at < g.ends_at)
                             AND g.credential_id IS NOT NULL);
            cheap := cheap || format(' AND (c.folder_id = ANY (%L::uuid[]) OR c.id = ANY (%L::uuid[]))', given, named);
        WHEN 'with-nobody' THEN
            costly := costly || format(' AND NOT EXISTS (SELECT FROM access_grant g WHERE g.person_id IS DISTINCT FROM $1 AND %s)', granted);
        ELSE
    END CASE;

    CASE wanted->>'sort'
        WHEN 'name' THEN sorted := 'lower(c.name)';
        WHEN 'user-name' THEN sorted := 'lower(coalesce(c.fields->>''user_name'', ''''))';
        WHEN 'kind' THEN sorted := 'c.kind';
        WHEN 'device' THEN sorted := 'coalesce((SELECT lower(v.name) FROM device v WHERE v.id = c.device_id), '''')';
        WHEN 'folder' THEN sorted := 'lower(o.path)';
        WHEN 'check' THEN sorted := 'coalesce((SELECT u.check_outcome FROM upkeep_state u WHERE u.credential_id = c.id), '''')';
        WHEN 'changed' THEN sorted := 'c.changed_at';
        ELSE
    END CASE;

    IF sorted <> '' THEN
    EXECUTE format('WITH RECURSIVE place(id, path) AS (
            SELECT f.id, ''/'' || f.name FROM folder f WHERE f.organisation = (SELECT scope()) AND f.parent_id IS NULL
            UNION ALL
            SELECT f.id, o.path || ''/'' || f.name FROM folder f JOIN place o ON f.parent_id = o.id
        ) SELECT array_agg(p.id ORDER BY p.place), max(p.total) FROM (
            SELECT c.id, row_number() OVER () AS place, c.total FROM (
                SELECT c.id, count(*) OVER () AS total FROM (
                    SELECT c.id, c.folder_id, c.device_id, c.name, c.kind, c.tags, c.fields, c.changed_at FROM credential c
                    WHERE c.organisation = (SELECT scope()) AND c.removed_at IS NULL AND ($3, $4) IS NOT NULL %s AND %s OFFSET 0
                ) c %s %s WHERE true %s ORDER BY %s %s, lower(c.name), c.id
            ) c OFFSET %s LIMIT %s) p',
        cheap, reach,
        CASE WHEN wanted ? 'finding' THEN format('CROSS JOIN LATERAL (SELECT findings_of(c.id, $1, $2, %L::integer, %L::integer, %L::integer) AS all) f',
            wanted->>'weak_below', wanted->>'old_days', wanted->>'soon_days') ELSE '' END,
        CASE WHEN wanted->>'sort' = 'folder' THEN 'LEFT JOIN place o ON o.id = c.folder_id' ELSE '' END,
        costly, sorted, CASE WHEN coalesce((wanted->>'down')::boolean, false) THEN 'DESC' ELSE 'ASC' END,
        coalesce((wanted->>'from')::bigint, 0), most)
    INTO ids, counted USING viewer, at, after_name, after_id, most, counting, few, single_counting, within;
    ELSIF cheap = '' AND costly = '' AND cardinality(few) BETWEEN 2 AND many - 1 AND beside = '' THEN
        deep := 7 + 3 * most / cardinality(few);
        -- Grants and folders are of one organisation, so the folder alone need be named.
        -- Of each folder no more is read than is likely to be on the page; should one have had more of
        -- it, again with more.
        LOOP
            WITH heads AS MATERIALIZED (
                SELECT h.id, h.name, h.nth FROM unnest(few) AS w(id) CROSS JOIN LATERAL (
                    SELECT c.id, lower(c.name) AS name, row_number() OVER (ORDER BY lower(c.name), c.id) AS nth FROM credential c
                    WHERE c.folder_id = w.id AND c.removed_at IS NULL AND (lower(c.name), c.id) > (after_name, after_id)
                    ORDER BY lower(c.name), c.id LIMIT deep) h
            ), chosen AS MATERIALIZED (SELECT h.id, h.name FROM heads h ORDER BY h.name, h.id LIMIT most)
            SELECT array_agg(v.id ORDER BY v.name, v.id),
                   NOT EXISTS (SELECT FROM heads h WHERE h.nth = deep
                               AND ((SELECT count(*) FROM chosen) < most OR (h.name, h.id) < (SELECT l.name, l.id FROM chosen l ORDER BY l.name DESC, l.id DESC LIMIT 1)))
            INTO ids, enough FROM chosen v;
            EXIT WHEN enough;
            deep := deep * 4;
        END LOOP;
    ELSE
    EXECUTE format('SELECT array_agg(p.id ORDER BY p.place) FROM (
            SELECT c.id, row_number() OVER () AS place FROM (
                SELECT c.id, c.folder_id, c.kind, c.tags FROM credential c
                WHERE c.organisation = (SELECT scope()) AND c.removed_at IS NULL AND %s %s AND %s
                ORDER BY %s lower(c.name), c.id %s
            ) c %s WHERE true %s LIMIT %s) p',
        CASE WHEN near = '' THEN '(lower(c.name), c.id) > ($3, $4)' ELSE '($3, $4) IS NOT NULL' END,
        cheap, reach, near, CASE WHEN costly = '' THEN format('LIMIT %s', most) ELSE 'OFFSET 0' END,
        CASE WHEN wanted ? 'finding' THEN format('CROSS JOIN LATERAL (SELECT findings_of(c.id, $1, $2, %L::integer, %L::integer, %L::integer) AS all) f',
            wanted->>'weak_below', wanted->>'old_days', wanted->>'soon_days') ELSE '' END,
        costly, most)
    INTO ids USING viewer, at, after_name, after_id, most, counting, few, single_counting, within;
    END IF;

    -- OFFSET 0 keeps the planner to one look into the index a row, where it would read whole tables.
    RETURN QUERY
        WITH page AS MATERIALIZED (
            SELECT c.id, c.folder_id, c.kind, c.tags, i.place FROM unnest(ids) WITH ORDINALITY AS i(id, place)
            CROSS JOIN LATERAL (SELECT * FROM credential c WHERE c.id = i.id OFFSET 0) c
        ), by_folder AS (
            SELECT v.folder_id, max(m.best) AS best FROM (SELECT DISTINCT p.folder_id FROM page p) v
            CROSS JOIN LATERAL (SELECT s.source_id FROM folder_source s WHERE s.folder_id = v.folder_id OFFSET 0) s
            JOIN unnest(folders, held) AS m(folder, best) ON m.folder = s.source_id GROUP BY 1
        ), narrowed AS (
            SELECT p.id, max(a.held) AS best FROM access_grant a JOIN page p ON (a.only_kind IS NULL OR a.only_kind = p.kind) AND (a.only_tag IS NULL OR a.only_tag = ANY (p.tags))
            WHERE beside <> '' AND a.organisation = scope() AND (a.only_kind IS NOT NULL OR a.only_tag IS NOT NULL) AND (a.person_id = viewer OR a.group_id = ANY (subjects))
              AND (a.ends_at IS NULL OR at < a.ends_at) AND EXISTS (SELECT FROM folder_source s WHERE s.folder_id = p.folder_id AND s.source_id = a.folder_id)
            GROUP BY 1
        )
        SELECT p.id, greatest(f.best, o.best, n.best), p.place, counted FROM page p LEFT JOIN narrowed n ON n.id = p.id LEFT JOIN by_folder f ON f.folder_id = p.folder_id
        LEFT JOIN unnest(singles, singles_held) AS o(credential, best) ON o.credential = p.id;
END $$;
REVOKE ALL ON FUNCTION page_of(uuid,timestamp with time zone,text,uuid,bigint,integer,jsonb) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION page_of(uuid,timestamp with time zone,text,uuid,bigint,integer,jsonb) TO jexlin_service;
