-- What access depends on is kept by the service in a form for quick questions (the atlas). What
-- changes is noted here with its transaction, so that the service can tell whether what it keeps is
-- what is, and read again only what is not. Notes are only added: nobody waits for anybody.
--
-- Numbers handed out one after the other would not do: a transaction with a lower number may commit
-- after one with a higher. A snapshot of PostgreSQL says of every transaction whether it was done, so
-- "what I have not seen" is exact.

CREATE TABLE access_note (
    organisation uuid NOT NULL,
    xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
    sort text NOT NULL CHECK (sort IN ('folder', 'grant', 'member', 'group', 'person', 'single')),
    id uuid NOT NULL
);
CREATE INDEX access_note_xid ON access_note (organisation, xid);
-- Notes of transactions before `gone_before` are no longer there; `next` is where that goes to.
CREATE TABLE access_floor (
    organisation uuid PRIMARY KEY REFERENCES organisation,
    gone_before xid8 NOT NULL,
    next xid8 NOT NULL
);
-- Only the functions below look at these, each at its own organisation.
ALTER TABLE access_note ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_floor ENABLE ROW LEVEL SECURITY;

CREATE FUNCTION note_new_rows() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    INSERT INTO access_note (organisation, sort, id) SELECT n.organisation, TG_ARGV[0], n.id FROM new_rows n;
    RETURN NULL;
END $$;
CREATE FUNCTION note_row() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        INSERT INTO access_note (organisation, sort, id) VALUES (OLD.organisation, TG_ARGV[0], OLD.id);
    ELSE
        INSERT INTO access_note (organisation, sort, id) VALUES (NEW.organisation, TG_ARGV[0], NEW.id);
    END IF;
    RETURN NULL;
END $$;

CREATE TRIGGER folder_new AFTER INSERT ON folder REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION note_new_rows('folder');
CREATE TRIGGER folder_other AFTER UPDATE ON folder FOR EACH ROW
    WHEN (OLD.parent_id IS DISTINCT FROM NEW.parent_id OR OLD.closed <> NEW.closed OR OLD.name <> NEW.name) EXECUTE FUNCTION note_row('folder');
CREATE TRIGGER folder_gone AFTER DELETE ON folder FOR EACH ROW EXECUTE FUNCTION note_row('folder');

CREATE TRIGGER person_new AFTER INSERT ON person REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION note_new_rows('person');
CREATE TRIGGER person_other AFTER UPDATE ON person FOR EACH ROW
    WHEN (OLD.display_name <> NEW.display_name OR OLD.state <> NEW.state) EXECUTE FUNCTION note_row('person');
CREATE TRIGGER person_gone AFTER DELETE ON person FOR EACH ROW EXECUTE FUNCTION note_row('person');

CREATE TRIGGER people_group_new AFTER INSERT ON people_group REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION note_new_rows('group');
CREATE TRIGGER people_group_other AFTER UPDATE ON people_group FOR EACH ROW WHEN (OLD.name <> NEW.name) EXECUTE FUNCTION note_row('group');
CREATE TRIGGER people_group_gone AFTER DELETE ON people_group FOR EACH ROW EXECUTE FUNCTION note_row('group');

CREATE FUNCTION note_members() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    INSERT INTO access_note (organisation, sort, id) SELECT DISTINCT r.organisation, 'member', r.member FROM rows r;
    RETURN NULL;
END $$;
CREATE TRIGGER group_member_new AFTER INSERT ON group_member REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION note_members();
CREATE TRIGGER group_member_gone AFTER DELETE ON group_member REFERENCING OLD TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION note_members();

CREATE FUNCTION note_grants() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    INSERT INTO access_note (organisation, sort, id)
        SELECT r.organisation, 'grant', r.id FROM rows r
        UNION ALL SELECT r.organisation, 'single', r.credential_id FROM rows r WHERE r.credential_id IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER access_grant_new AFTER INSERT ON access_grant REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION note_grants();
CREATE TRIGGER access_grant_other AFTER UPDATE ON access_grant REFERENCING NEW TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION note_grants();
CREATE TRIGGER access_grant_gone AFTER DELETE ON access_grant REFERENCING OLD TABLE AS rows FOR EACH STATEMENT EXECUTE FUNCTION note_grants();

-- A gate on a credential counts in its folder.
CREATE FUNCTION note_gate() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
DECLARE
    it gate := CASE WHEN TG_OP = 'DELETE' THEN OLD ELSE NEW END;
BEGIN
    INSERT INTO access_note (organisation, sort, id)
        SELECT it.organisation, 'folder', coalesce(it.folder_id, (SELECT c.folder_id FROM credential c WHERE c.id = it.credential_id))
        UNION ALL SELECT it.organisation, 'single', it.credential_id WHERE it.credential_id IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER gate_new AFTER INSERT ON gate FOR EACH ROW EXECUTE FUNCTION note_gate();
CREATE TRIGGER gate_gone AFTER DELETE ON gate FOR EACH ROW EXECUTE FUNCTION note_gate();

-- How many credentials lie in a folder, as before, and that it is another number now.
CREATE OR REPLACE FUNCTION count_new() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    WITH counted AS (
        INSERT INTO folder_count SELECT n.organisation, n.folder_id, count(*) FROM new_rows n WHERE n.removed_at IS NULL GROUP BY 1, 2
        RETURNING organisation, folder_id
    ) INSERT INTO access_note (organisation, sort, id) SELECT c.organisation, 'folder', c.folder_id FROM counted c;
    RETURN NULL;
END $$;
CREATE OR REPLACE FUNCTION count_moved() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    IF OLD.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (OLD.organisation, OLD.folder_id, -1);
        INSERT INTO access_note (organisation, sort, id) VALUES (OLD.organisation, 'folder', OLD.folder_id);
    END IF;
    IF TG_OP = 'UPDATE' AND NEW.removed_at IS NULL THEN
        INSERT INTO folder_count VALUES (NEW.organisation, NEW.folder_id, 1);
        INSERT INTO access_note (organisation, sort, id) VALUES (NEW.organisation, 'folder', NEW.folder_id);
    END IF;
    RETURN NULL;
END $$;
CREATE FUNCTION note_single() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN
    IF EXISTS (SELECT FROM access_grant g WHERE g.credential_id = OLD.id) THEN
        INSERT INTO access_note (organisation, sort, id) VALUES (OLD.organisation, 'single', OLD.id);
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER credential_other AFTER UPDATE ON credential FOR EACH ROW
    WHEN (OLD.folder_id <> NEW.folder_id OR (OLD.removed_at IS NULL) <> (NEW.removed_at IS NULL) OR OLD.kind <> NEW.kind OR OLD.tags <> NEW.tags)
    EXECUTE FUNCTION note_single();

-- What this transaction sees that a snapshot does not, `complete` if all of it is still noted. Without
-- a snapshot, nothing but where one is now. `writing` says that this transaction has changed something
-- itself, which nobody else may take for what is. It is asked at every question, and there is one good
-- plan for it: to make another each time would take five times as long as to follow it.
CREATE FUNCTION access_news(since text) RETURNS TABLE (snapshot text, server timestamptz, complete boolean, writing boolean, sorts text[], ids uuid[])
    LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public SET plan_cache_mode = force_generic_plan SET enable_seqscan = off AS $$
DECLARE
    seen pg_snapshot := since::pg_snapshot;
BEGIN
    RETURN QUERY SELECT pg_current_snapshot()::text, pg_postmaster_start_time(),
        seen IS NOT NULL AND NOT EXISTS (SELECT FROM access_floor f WHERE f.organisation = scope() AND f.gone_before > pg_snapshot_xmin(seen)),
        pg_current_xact_id_if_assigned() IS NOT NULL, coalesce(array_agg(n.sort), '{}'), coalesce(array_agg(n.id), '{}')
        FROM (SELECT DISTINCT a.sort, a.id FROM access_note a
              WHERE a.organisation = scope() AND a.xid >= pg_snapshot_xmin(seen) AND NOT pg_visible_in_snapshot(a.xid, seen)) n;
END $$;

-- What this transaction has changed itself so far.
CREATE FUNCTION access_changed() RETURNS TABLE (sorts text[], ids uuid[]) LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public AS $$
BEGIN
    RETURN QUERY SELECT coalesce(array_agg(n.sort), '{}'), coalesce(array_agg(n.id), '{}')
        FROM (SELECT DISTINCT a.sort, a.id FROM access_note a WHERE a.organisation = scope() AND a.xid = pg_current_xact_id_if_assigned()) n;
END $$;

-- Notes that are older than the last call go. Those of a database that was copied elsewhere are of
-- transactions that are yet to come there; they go as well.
CREATE FUNCTION forget_access_notes() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
DECLARE
    current pg_snapshot := pg_current_snapshot();
    floor access_floor;
BEGIN
    SELECT f.* INTO floor FROM access_floor f WHERE f.organisation = scope() FOR UPDATE;
    IF NOT FOUND THEN
        INSERT INTO access_floor VALUES (scope(), '0', pg_snapshot_xmin(current)) ON CONFLICT DO NOTHING;
    ELSIF floor.next > pg_snapshot_xmax(current) THEN
        DELETE FROM access_note a WHERE a.organisation = scope() AND a.xid > pg_snapshot_xmax(current);
        UPDATE access_floor f SET gone_before = '0', next = pg_snapshot_xmin(current) WHERE f.organisation = scope();
    ELSE
        DELETE FROM access_note a WHERE a.organisation = scope() AND a.xid < floor.next;
        UPDATE access_floor f SET gone_before = floor.next, next = pg_snapshot_xmin(current) WHERE f.organisation = scope();
    END IF;
END $$;

DO $$
DECLARE
    f text;
BEGIN
    FOREACH f IN ARRAY ARRAY['access_news(text)', 'access_changed()', 'forget_access_notes()'] LOOP
        EXECUTE format('REVOKE EXECUTE ON FUNCTION %s FROM PUBLIC', f);
        EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO jexlin_service', f);
    END LOOP;
END $$;
