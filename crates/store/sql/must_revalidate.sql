-- What waits and what is held must be revalidated after these, before the commit.
CREATE OR REPLACE FUNCTION must_revalidate()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM set_config('jexlin.revalidate', 'due', true);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER gate_revalidated AFTER INSERT OR DELETE OR UPDATE ON gate FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER gate_approver_revalidated AFTER DELETE ON gate_approver FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER access_grant_revalidated AFTER DELETE OR UPDATE ON access_grant FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER group_member_revalidated AFTER DELETE ON group_member FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER folder_revalidated AFTER UPDATE OF parent_id, closed ON folder FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER credential_revalidated AFTER UPDATE OF folder_id ON credential FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER device_revalidated AFTER UPDATE OF folder_id ON device FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER account_revalidated AFTER UPDATE OF credential_id ON account FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
CREATE OR REPLACE TRIGGER person_revalidated AFTER UPDATE OF state ON person FOR EACH STATEMENT EXECUTE FUNCTION must_revalidate();
