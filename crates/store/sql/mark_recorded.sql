-- Promise 3, kept by the database as well: a commit that is to hold an audit event is refused when
-- none went into its transaction.
CREATE OR REPLACE FUNCTION mark_recorded()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM set_config('jexlin.recorded', 'yes', true);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER audit_event_noted BEFORE INSERT ON audit_event FOR EACH STATEMENT EXECUTE FUNCTION mark_recorded();
