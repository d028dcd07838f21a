-- What waits and what is held must be examined again after these, before the commit.
CREATE OR REPLACE FUNCTION must_examine()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    PERFORM set_config('jexlin.examine', 'due', true);
    RETURN NULL;
END $$;

CREATE OR REPLACE TRIGGER gate_examined AFTER INSERT OR DELETE OR UPDATE ON gate FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER gate_approver_examined AFTER DELETE ON gate_approver FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER access_grant_examined AFTER DELETE OR UPDATE ON access_grant FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER group_member_examined AFTER DELETE ON group_member FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER folder_examined AFTER UPDATE OF parent_id, closed ON folder FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER credential_examined AFTER UPDATE OF folder_id ON credential FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER device_examined AFTER UPDATE OF folder_id ON device FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER account_examined AFTER UPDATE OF credential_id ON account FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
CREATE OR REPLACE TRIGGER person_examined AFTER UPDATE OF state ON person FOR EACH STATEMENT EXECUTE FUNCTION must_examine();
