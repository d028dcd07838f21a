-- The vault as people live in it: reasons in the history, the bin, kinds of an organisation's own,
-- rules for passwords by folder, findings, tags, attachments, personal folders.

-- What an organisation has set. What is not in the body has its default, which the core knows.
CREATE TABLE settings (
    organisation uuid PRIMARY KEY REFERENCES organisation,
    body jsonb NOT NULL,
    version integer NOT NULL DEFAULT 1
);

-- What the workers noted last, to see that it has changed.
CREATE TABLE noted (
    organisation uuid NOT NULL REFERENCES organisation,
    name text NOT NULL,
    value text NOT NULL,
    PRIMARY KEY (organisation, name)
);

-- Why a value was set, and what everybody may know of it (the public half of a key, when a
-- certificate ends, that codes of a seed count up).
ALTER TABLE secret_version ADD COLUMN why text NOT NULL DEFAULT '';
ALTER TABLE secret_version ADD COLUMN facts jsonb NOT NULL DEFAULT '{}';
ALTER TABLE secret_version DROP CONSTRAINT secret_version_made_how_check;
ALTER TABLE secret_version ADD CONSTRAINT secret_version_made_how_check CHECK (made_how IN ('typed', 'generated', 'rotated', 'imported', 'restored'));

-- How often codes that count up were asked for, by the version of the seed.
CREATE TABLE one_time_counter (
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    number integer NOT NULL,
    counter bigint NOT NULL,
    PRIMARY KEY (credential_id, number)
);

-- One act of removing: a credential, a device, or a folder with all that is in it.
CREATE TABLE removal (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    sort text NOT NULL CHECK (sort IN ('credential', 'device', 'folder')),
    target uuid NOT NULL,
    -- Where it was, for the list of what is in the bin.
    path text NOT NULL,
    folder_id uuid NOT NULL REFERENCES folder,
    credentials integer NOT NULL,
    removed_at timestamptz NOT NULL,
    removed_by uuid REFERENCES person,
    restored_at timestamptz,
    purged_at timestamptz
);
CREATE INDEX removal_waiting ON removal (organisation, removed_at DESC, id DESC) WHERE restored_at IS NULL AND purged_at IS NULL;
ALTER TABLE credential ADD COLUMN removal_id uuid REFERENCES removal;
ALTER TABLE device ADD COLUMN removal_id uuid REFERENCES removal;
ALTER TABLE folder ADD COLUMN removal_id uuid REFERENCES removal;
CREATE INDEX credential_removal ON credential (removal_id) WHERE removal_id IS NOT NULL;
CREATE INDEX device_removal ON device (removal_id) WHERE removal_id IS NOT NULL;
CREATE INDEX folder_removal ON folder (removal_id) WHERE removal_id IS NOT NULL;
ALTER TABLE credential ADD COLUMN purged_at timestamptz;

-- Promise 2 stays with the database: versions go only with the whole credential, only from the
-- bin, and only through the function below.
CREATE OR REPLACE FUNCTION keep_secret_version() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        IF current_setting('jexlin.purging', true) IS NOT DISTINCT FROM OLD.credential_id::text THEN
            RETURN OLD;
        END IF;
        RAISE EXCEPTION 'a secret version is never deleted';
    END IF;
    IF (NEW.organisation, NEW.credential_id, NEW.field, NEW.number, NEW.sealed, NEW.made_at) IS DISTINCT FROM
       (OLD.organisation, OLD.credential_id, OLD.field, OLD.number, OLD.sealed, OLD.made_at) THEN
        RAISE EXCEPTION 'a secret version is never overwritten';
    END IF;
    RETURN NEW;
END $$;

-- Empties a credential that is in the bin for good. The row stays, empty, since jobs, requests and
-- checkouts of the past speak of it; its key and its secrets are gone.
CREATE FUNCTION purge_credential(wanted uuid, at timestamptz) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
DECLARE
    row credential%ROWTYPE;
BEGIN
    SELECT * INTO row FROM credential c WHERE c.id = wanted AND c.organisation = scope() FOR UPDATE;
    IF row.id IS NULL OR row.removed_at IS NULL OR row.purged_at IS NOT NULL THEN
        RAISE EXCEPTION 'only what is in the bin can be purged';
    END IF;
    IF EXISTS (SELECT FROM job j WHERE j.credential_id = wanted AND j.state IN ('queued', 'running'))
       OR EXISTS (SELECT FROM checkout k WHERE k.credential_id = wanted AND k.ended_at IS NULL)
       OR EXISTS (SELECT FROM secret_version v WHERE v.credential_id = wanted AND v.state = 'candidate') THEN
        RAISE EXCEPTION 'a job or a checkout is under way';
    END IF;
    -- In the order in which judging locks them.
    DELETE FROM judgement j WHERE j.credential_id = wanted;
    PERFORM set_config('jexlin.purging', wanted::text, true);
    DELETE FROM secret_version v WHERE v.credential_id = wanted;
    DELETE FROM attachment a WHERE a.credential_id = wanted;
    PERFORM set_config('jexlin.purging', '', true);
    DELETE FROM favourite f WHERE f.credential_id = wanted;
    DELETE FROM one_time_counter o WHERE o.credential_id = wanted;
    DELETE FROM access_grant g WHERE g.credential_id = wanted;
    DELETE FROM gate g WHERE g.credential_id = wanted;
    DELETE FROM upkeep_plan p WHERE p.credential_id = wanted;
    UPDATE credential SET purged_at = at, data_key = '', fields = '{}', tags = '{}', extra = '[]' WHERE id = wanted;
END $$;

-- Kinds of an organisation's own.
CREATE TABLE kind (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    name text NOT NULL,
    label text NOT NULL,
    fields jsonb NOT NULL,
    generates boolean NOT NULL,
    retired_at timestamptz,
    version integer NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX kind_name ON kind (organisation, name);

-- Fields that one credential alone has, and its tags.
ALTER TABLE credential ADD COLUMN extra jsonb NOT NULL DEFAULT '[]';
ALTER TABLE credential ADD COLUMN tags text[] NOT NULL DEFAULT '{}';
CREATE INDEX credential_tags ON credential USING gin (tags) WHERE removed_at IS NULL;

-- Everything that is not secret can be found.
CREATE FUNCTION searchable(name text, fields jsonb, tags text[]) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT lower(left(name || ' ' || coalesce((SELECT string_agg(f.value, ' ') FROM jsonb_each_text(fields) f), '') || ' ' || array_to_string(tags, ' '), 4000))
$$;
ALTER TABLE credential DROP COLUMN search;
ALTER TABLE credential ADD COLUMN search text GENERATED ALWAYS AS (searchable(name, fields, tags)) STORED;
CREATE INDEX credential_search ON credential USING gin (search gin_trgm_ops);

CREATE TABLE favourite (
    organisation uuid NOT NULL REFERENCES organisation,
    person_id uuid NOT NULL REFERENCES person,
    credential_id uuid NOT NULL REFERENCES credential,
    PRIMARY KEY (person_id, credential_id)
);

CREATE TABLE saved_search (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    person_id uuid NOT NULL REFERENCES person,
    name text NOT NULL,
    body jsonb NOT NULL
);
CREATE UNIQUE INDEX saved_search_name ON saved_search (person_id, lower(name));

-- What a folder demands of the passwords in it; the nearest counts.
CREATE TABLE password_rule (
    folder_id uuid PRIMARY KEY REFERENCES folder,
    organisation uuid NOT NULL REFERENCES organisation,
    mode text NOT NULL CHECK (mode IN ('advise', 'enforce', 'choose')),
    policies uuid[] NOT NULL CHECK (cardinality(policies) > 0)
);

-- What is known of the current password of a credential without opening it.
CREATE TABLE judgement (
    credential_id uuid PRIMARY KEY REFERENCES credential,
    organisation uuid NOT NULL REFERENCES organisation,
    number integer NOT NULL,
    score smallint NOT NULL CHECK (score BETWEEN 0 AND 4),
    fingerprint bytea NOT NULL,
    lacks text[] NOT NULL,
    leaked bigint NOT NULL,
    made_at timestamptz NOT NULL,
    -- Whether rules, kind or the file of leaked passwords have changed since.
    stale boolean NOT NULL DEFAULT false
);
-- What was there before is judged when a service first looks.
INSERT INTO judgement SELECT c.id, c.organisation, 0, 4, uuid_send(c.id), '{}', 0, c.changed_at, true FROM credential c WHERE c.removed_at IS NULL;
CREATE INDEX judgement_same ON judgement (organisation, fingerprint);
CREATE INDEX judgement_stale ON judgement (organisation) WHERE stale;

-- What is wrong with a credential, in the words of the core, for somebody who may see its password.
-- Reuse is told of passwords alone that the asker may see too: otherwise a guess could be tried by
-- entering it somewhere and looking whether it is "reused".
CREATE FUNCTION findings_of(wanted uuid, viewer uuid, at timestamptz, weak_below integer, old_days integer, soon_days integer) RETURNS text[] LANGUAGE plpgsql STABLE AS $$
DECLARE
    found text[] := '{}';
    j judgement%ROWTYPE;
    ends date;
BEGIN
    SELECT * INTO j FROM judgement WHERE credential_id = wanted;
    IF j.leaked > 0 THEN found := found || 'leaked'::text; END IF;
    IF EXISTS (SELECT FROM upkeep_state u WHERE u.credential_id = wanted AND u.check_outcome = 'out of sync') THEN found := found || 'out-of-sync'::text; END IF;
    IF j.score < weak_below THEN found := found || 'weak'::text; END IF;
    IF EXISTS (SELECT FROM judgement o JOIN credential c ON c.id = o.credential_id
               WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> wanted AND c.removed_at IS NULL
                 AND level_on_credential(viewer, c.id, at) >= 3) THEN
        found := found || 'reused'::text;
    END IF;
    SELECT to_date(c.fields->>'expires', 'YYYY-MM-DD') INTO ends FROM credential c WHERE c.id = wanted AND c.fields->>'expires' ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$';
    IF ends < at::date THEN found := found || 'expired'::text; END IF;
    IF cardinality(j.lacks) > 0 THEN found := found || 'breaks-policy'::text; END IF;
    IF ends >= at::date AND ends < at::date + soon_days THEN found := found || 'expires-soon'::text; END IF;
    IF old_days > 0 AND j.made_at < at - make_interval(days => old_days) THEN found := found || 'old'::text; END IF;
    RETURN found;
END $$;

-- The same as before, with a look into the index for each group instead of reading all memberships.
CREATE OR REPLACE FUNCTION subjects_of(person uuid) RETURNS uuid[] LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN (WITH RECURSIVE s(id) AS (
        SELECT person
        UNION
        SELECT m.group_id FROM s CROSS JOIN LATERAL (SELECT g.group_id FROM group_member g WHERE g.member = s.id OFFSET 0) m
    ) SELECT array_agg(id) FROM s);
END $$;

-- One page of all that somebody reaches, in the order of names, with the level held. Row-level
-- security would keep the index from finding where a page begins; here the organisation is named
-- instead. Whoever reaches few folders has theirs looked through; whoever reaches many finds a page
-- of them soon by going through the names in order. `many` says from how many on; left out, it is
-- where both take about as long, which grows with the square root of the number of folders.
CREATE FUNCTION page_of_all(viewer uuid, at timestamptz, after_name text, after_id uuid, most bigint, many integer) RETURNS TABLE (found uuid, level smallint)
    LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public SET plan_cache_mode = force_custom_plan AS $$
DECLARE
    subjects uuid[] := subjects_of(viewer);
    folders uuid[];
    held smallint[];
    singles uuid[];
    singles_held smallint[];
    few uuid[];
    ids uuid[];
BEGIN
    IF many IS NULL THEN
        SELECT greatest(16, sqrt(most * greatest(t.reltuples, 1) / 19))::integer INTO many FROM pg_class t WHERE t.oid = 'folder'::regclass;
    END IF;
    SELECT array_agg(g.folder_id), array_agg(g.best) INTO folders, held FROM (
        SELECT a.folder_id, max(a.held) AS best FROM access_grant a
        WHERE a.organisation = scope() AND a.folder_id IS NOT NULL AND (a.person_id = viewer OR a.group_id = ANY (subjects)) AND (a.ends_at IS NULL OR at < a.ends_at)
        GROUP BY 1) g;
    SELECT array_agg(g.credential_id), array_agg(g.best) INTO singles, singles_held FROM (
        SELECT a.credential_id, max(a.held) AS best FROM access_grant a
        WHERE a.organisation = scope() AND a.credential_id IS NOT NULL AND (a.person_id = viewer OR a.group_id = ANY (subjects)) AND (a.ends_at IS NULL OR at < a.ends_at)
        GROUP BY 1) g;
    folders := coalesce(folders, '{}');
    singles := coalesce(singles, '{}');
    SELECT array_agg(r.folder_id) INTO few FROM (SELECT DISTINCT s.folder_id FROM folder_source s WHERE s.source_id = ANY (folders) LIMIT many) r;
    few := coalesce(few, '{}');
    IF cardinality(few) < many THEN
        SELECT array_agg(x.id) INTO ids FROM (
            SELECT c.id FROM credential c
            WHERE c.organisation = scope() AND c.removed_at IS NULL AND c.folder_id = ANY (few) AND (lower(c.name), c.id) > (after_name, after_id)
            ORDER BY lower(c.name), c.id LIMIT most) x;
    ELSE
        SELECT array_agg(x.id) INTO ids FROM (
            SELECT c.id FROM credential c
            WHERE c.organisation = scope() AND c.removed_at IS NULL AND (lower(c.name), c.id) > (after_name, after_id)
              AND (SELECT true FROM folder_source s WHERE s.folder_id = c.folder_id AND s.source_id = ANY (folders) LIMIT 1)
            ORDER BY lower(c.name), c.id LIMIT most) x;
    END IF;
    -- OFFSET 0 keeps the planner to one look into the index a row, where it would read whole tables.
    RETURN QUERY
        WITH page AS MATERIALIZED (
            SELECT c.id, c.folder_id FROM credential c
            WHERE c.id = ANY (ids || singles) AND c.organisation = scope() AND c.removed_at IS NULL AND (lower(c.name), c.id) > (after_name, after_id)
            ORDER BY lower(c.name), c.id LIMIT most
        ), by_folder AS (
            SELECT v.folder_id, max(m.best) AS best FROM (SELECT DISTINCT p.folder_id FROM page p) v
            CROSS JOIN LATERAL (SELECT s.source_id FROM folder_source s WHERE s.folder_id = v.folder_id OFFSET 0) s
            JOIN unnest(folders, held) AS m(folder, best) ON m.folder = s.source_id GROUP BY 1
        )
        SELECT p.id, greatest(f.best, o.best) FROM page p LEFT JOIN by_folder f ON f.folder_id = p.folder_id
        LEFT JOIN unnest(singles, singles_held) AS o(credential, best) ON o.credential = p.id;
END $$;
REVOKE EXECUTE ON FUNCTION page_of_all(uuid, timestamptz, text, uuid, bigint, integer) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION page_of_all(uuid, timestamptz, text, uuid, bigint, integer) TO jexlin_service;

-- Like `matching`, forgiving slips of typing: what resembles a word of it, by groups of three letters.
CREATE FUNCTION resembling(typed text) RETURNS SETOF uuid LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public
    SET pg_trgm.word_similarity_threshold = 0.5 ROWS 50 AS $$
BEGIN
    RETURN QUERY
        (SELECT c.id FROM credential c WHERE c.organisation = scope() AND c.removed_at IS NULL AND typed <% c.search
         ORDER BY word_similarity(typed, c.search) DESC LIMIT 200)
        UNION
        (SELECT c.id FROM folder f JOIN credential c ON c.folder_id = f.id
         WHERE f.organisation = scope() AND f.removed_at IS NULL AND c.removed_at IS NULL AND typed <% lower(f.name) LIMIT 200);
END $$;
REVOKE EXECUTE ON FUNCTION resembling(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION resembling(text) TO jexlin_service;

-- The fingerprints of former values, so that one of the last can be told without opening them.
ALTER TABLE secret_version ADD COLUMN fingerprint bytea;

-- Files that belong to a credential, sealed piece by piece under its data key.
CREATE TABLE attachment (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    name text NOT NULL,
    size bigint NOT NULL,
    pieces integer NOT NULL,
    made_at timestamptz NOT NULL,
    made_by uuid REFERENCES person
);
CREATE UNIQUE INDEX attachment_name ON attachment (credential_id, lower(name));
CREATE TABLE attachment_piece (
    organisation uuid NOT NULL REFERENCES organisation,
    attachment_id uuid NOT NULL REFERENCES attachment ON DELETE CASCADE,
    number integer NOT NULL,
    sealed bytea NOT NULL,
    PRIMARY KEY (attachment_id, number)
);
-- Sealed bytes do not get smaller.
ALTER TABLE attachment_piece ALTER COLUMN sealed SET STORAGE EXTERNAL;

-- One person's own folder: a random key, sealed under a key that is made from their passphrase and
-- kept nowhere; items sealed whole, names included.
CREATE TABLE personal_folder (
    person_id uuid PRIMARY KEY REFERENCES person,
    organisation uuid NOT NULL REFERENCES organisation,
    salt bytea NOT NULL,
    sealed_key bytea NOT NULL,
    made_at timestamptz NOT NULL,
    version integer NOT NULL DEFAULT 1
);
CREATE TABLE personal_item (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    person_id uuid NOT NULL REFERENCES personal_folder,
    sealed bytea NOT NULL,
    changed_at timestamptz NOT NULL,
    version integer NOT NULL DEFAULT 1
);
CREATE INDEX personal_item_person ON personal_item (person_id);

DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['settings', 'noted', 'one_time_counter', 'removal', 'kind', 'favourite', 'saved_search', 'password_rule', 'judgement', 'attachment',
        'attachment_piece', 'personal_folder', 'personal_item'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY inside ON %I USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()))', t);
        EXECUTE format('GRANT SELECT, INSERT, UPDATE ON %I TO jexlin_service', t);
    END LOOP;
END $$;
GRANT DELETE ON favourite, saved_search, password_rule, judgement, attachment, personal_item, kind TO jexlin_service;
-- Pieces go with their attachment and never change.
REVOKE UPDATE ON attachment_piece FROM jexlin_service;
REVOKE EXECUTE ON FUNCTION purge_credential(uuid, timestamptz) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION purge_credential(uuid, timestamptz) TO jexlin_service;
