-- In plpgsql, since the plan of such a function is kept for the connection; one in SQL is parsed
-- and planned anew in every statement that calls it.
CREATE OR REPLACE FUNCTION subjects_of(person uuid) RETURNS uuid[] LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN (WITH RECURSIVE s(id) AS (
        SELECT person
        UNION
        SELECT m.group_id FROM group_member m JOIN s ON m.member = s.id
    ) SELECT array_agg(id) FROM s);
END $$;

CREATE OR REPLACE FUNCTION path_of(folder uuid) RETURNS text LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN (WITH RECURSIVE up(id, parent_id, path, depth) AS (
        SELECT f.id, f.parent_id, '/' || f.name, 1 FROM folder f WHERE f.id = folder
        UNION ALL
        SELECT f.id, f.parent_id, '/' || f.name || up.path, up.depth + 1 FROM folder f JOIN up ON f.id = up.parent_id WHERE up.depth < 1000
    ) SELECT path FROM up ORDER BY depth DESC LIMIT 1);
END $$;

-- Promise 3, kept by the database as well: a commit that is to hold an audit event is refused when
-- none went into its transaction.
CREATE FUNCTION note_recorded() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM set_config('jexlin.recorded', 'yes', true);
    RETURN NULL;
END $$;
CREATE TRIGGER audit_event_noted BEFORE INSERT ON audit_event FOR EACH STATEMENT EXECUTE FUNCTION note_recorded();

CREATE FUNCTION must_be_recorded() RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    IF current_setting('jexlin.recorded', true) IS DISTINCT FROM 'yes' THEN
        RAISE EXCEPTION 'no audit event is in this transaction';
    END IF;
END $$;
