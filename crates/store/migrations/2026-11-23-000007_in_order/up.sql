-- Access kept in order.

-- The level that reaches a person on everything that an act of removing took away. What an import
-- brought lies in many places, each of which can have been moved or closed by itself since.
CREATE FUNCTION level_on_removed(person uuid, wanted uuid, at timestamptz) RETURNS smallint LANGUAGE plpgsql STABLE AS $$
DECLARE
    act removal;
    least smallint;
BEGIN
    SELECT r.* INTO act FROM removal r WHERE r.id = wanted;
    least := coalesce(level_on_folder(person, act.folder_id, at), 0);
    IF act.sort = 'import' THEN
        least := least(least, (SELECT min(coalesce(level_on_folder(person, its.folder_id, at), 0))
            FROM (SELECT DISTINCT c.folder_id FROM credential c WHERE c.removal_id = wanted) AS its));
    END IF;
    RETURN nullif(least, 0);
END $$;

-- How many credentials that are not removed lie in each folder: the sum of what was noted each time
-- that some came or went. Notes are only added, so that nobody waits for anybody; `fold_counts` makes
-- one of many.
CREATE TABLE folder_count (
    organisation uuid NOT NULL,
    folder_id uuid NOT NULL,
    credentials bigint NOT NULL
);
CREATE INDEX folder_count_folder ON folder_count (folder_id);
INSERT INTO folder_count SELECT c.organisation, c.folder_id, count(*) FROM credential c WHERE c.removed_at IS NULL GROUP BY 1, 2;
ALTER TABLE folder_count ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON folder_count USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()));
GRANT SELECT ON folder_count TO jexlin_service;

CREATE FUNCTION count_new() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    INSERT INTO folder_count SELECT n.organisation, n.folder_id, count(*) FROM new_rows n WHERE n.removed_at IS NULL GROUP BY 1, 2;
    RETURN NULL;
END $$;
CREATE TRIGGER credential_counted AFTER INSERT ON credential REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION count_new();

CREATE FUNCTION count_moved() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    IF OLD.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (OLD.organisation, OLD.folder_id, -1);
    END IF;
    IF TG_OP = 'UPDATE' AND NEW.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (NEW.organisation, NEW.folder_id, 1);
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER credential_moved AFTER UPDATE ON credential FOR EACH ROW
    WHEN (OLD.folder_id IS DISTINCT FROM NEW.folder_id OR (OLD.removed_at IS NULL) <> (NEW.removed_at IS NULL)) EXECUTE FUNCTION count_moved();
CREATE TRIGGER credential_gone AFTER DELETE ON credential FOR EACH ROW EXECUTE FUNCTION count_moved();

-- Of folders with many notes, one note of the sum. How many notes went.
CREATE FUNCTION fold_counts() RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
DECLARE
    gone bigint;
BEGIN
    WITH many AS (
        SELECT n.folder_id FROM folder_count n WHERE n.organisation = scope() GROUP BY 1 HAVING count(*) > 8
    ), taken AS (
        DELETE FROM folder_count n USING many WHERE n.folder_id = many.folder_id RETURNING n.organisation, n.folder_id, n.credentials
    ), kept AS (
        INSERT INTO folder_count SELECT t.organisation, t.folder_id, sum(t.credentials) FROM taken t GROUP BY 1, 2
    ) SELECT count(*) INTO gone FROM taken;
    RETURN gone;
END $$;
REVOKE EXECUTE ON FUNCTION fold_counts() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fold_counts() TO jexlin_service;

CREATE INDEX access_grant_narrowed ON access_grant (folder_id) WHERE only_kind IS NOT NULL OR only_tag IS NOT NULL;

-- An access request: somebody asks the stewards of something of which they see the name alone for a level on it.
CREATE TABLE access_request (
    id uuid PRIMARY KEY,
    organisation uuid NOT NULL REFERENCES organisation,
    credential_id uuid NOT NULL REFERENCES credential,
    person_id uuid NOT NULL REFERENCES person,
    held smallint NOT NULL CHECK (held BETWEEN 1 AND 4),
    reason text NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'granted', 'refused', 'withdrawn')),
    asked_at timestamptz NOT NULL,
    decided_at timestamptz,
    decided_by uuid REFERENCES person,
    comment text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX access_request_once ON access_request (credential_id, person_id) WHERE state = 'waiting';
CREATE INDEX access_request_recent ON access_request (organisation, asked_at DESC, id DESC);
ALTER TABLE access_request ENABLE ROW LEVEL SECURITY;
CREATE POLICY inside ON access_request USING (organisation = (SELECT scope())) WITH CHECK (organisation = (SELECT scope()));
GRANT SELECT, INSERT, UPDATE ON access_request TO jexlin_service;

-- Whether grants from far above reach a folder: neither it nor any above it is closed.
CREATE FUNCTION open_to_the_top(folder uuid) RETURNS boolean LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN EXISTS (SELECT FROM folder_source s JOIN folder f ON f.id = s.source_id WHERE s.folder_id = folder AND f.parent_id IS NULL AND NOT f.closed);
END $$;

-- The credentials of this organisation with a text in their name that somebody holds nothing on, in
-- the order of names, but for what is in closed folders. The organisation is named for the sake of the
-- index, as in `matching`.
CREATE FUNCTION discoverable(viewer uuid, at timestamptz, pattern text, after_name text, after_id uuid, most bigint) RETURNS SETOF uuid
    LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public AS $$
BEGIN
    RETURN QUERY
        SELECT c.id FROM credential c
        WHERE c.organisation = scope() AND c.removed_at IS NULL AND c.search LIKE pattern AND lower(c.name) LIKE pattern AND (lower(c.name), c.id) > (after_name, after_id)
          AND open_to_the_top(c.folder_id) AND level_on_credential(viewer, c.id, at) IS NULL
        ORDER BY lower(c.name), c.id LIMIT most;
END $$;
REVOKE EXECUTE ON FUNCTION discoverable(uuid, timestamptz, text, text, uuid, bigint) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION discoverable(uuid, timestamptz, text, text, uuid, bigint) TO jexlin_service;

-- Clients are programs that sign in (RFC 6749, section 4.4): subjects of grants as people are, with a
-- secret of which the hash alone is kept, in place of a password.
ALTER TABLE person ADD COLUMN sort text NOT NULL DEFAULT 'person' CHECK (sort IN ('person', 'client'));
ALTER TABLE person ADD COLUMN secret_hash bytea;
ALTER TABLE person ADD CHECK (sort = 'client' OR secret_hash IS NULL);
ALTER TABLE person ADD CHECK (sort = 'person' OR password_phc IS NULL);
ALTER TABLE session DROP CONSTRAINT session_channel_check;
ALTER TABLE session ADD CHECK (channel IN ('console', 'client', 'program'));
