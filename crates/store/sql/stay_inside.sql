-- Finding by words with what the planner knows.
--
-- Under row-level security, even under a policy that lets everything through, the planner estimates LIKE
-- without its statistics, since LIKE could tell of rows that a policy hides: it took every text for a rare
-- one. So these three tables bind the owner in another way: whatever it writes belongs to the organisation
-- in which it acts. What it reads, the functions that find name themselves. The service's role is bound by
-- row-level security as before.
CREATE OR REPLACE FUNCTION stay_inside()
    RETURNS trigger
    LANGUAGE plpgsql
AS $$
BEGIN
    IF (TG_OP <> 'INSERT' AND OLD.organisation IS DISTINCT FROM scope()) OR (TG_OP <> 'DELETE' AND NEW.organisation IS DISTINCT FROM scope()) THEN
        RAISE EXCEPTION 'this belongs to another organisation';
    END IF;
    IF TG_OP = 'DELETE' THEN RETURN OLD; END IF;
    RETURN NEW;
END $$;

CREATE OR REPLACE TRIGGER a_stays_inside BEFORE INSERT OR DELETE OR UPDATE ON credential FOR EACH ROW WHEN ((CURRENT_USER = 'jexlin_owner'::name)) EXECUTE FUNCTION stay_inside();
CREATE OR REPLACE TRIGGER a_stays_inside BEFORE INSERT OR DELETE OR UPDATE ON device FOR EACH ROW WHEN ((CURRENT_USER = 'jexlin_owner'::name)) EXECUTE FUNCTION stay_inside();
CREATE OR REPLACE TRIGGER a_stays_inside BEFORE INSERT OR DELETE OR UPDATE ON folder FOR EACH ROW WHEN ((CURRENT_USER = 'jexlin_owner'::name)) EXECUTE FUNCTION stay_inside();
