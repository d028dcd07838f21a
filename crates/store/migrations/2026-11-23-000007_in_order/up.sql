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
