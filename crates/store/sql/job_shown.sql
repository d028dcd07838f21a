-- The word for a job that says the most: its outcome once it has ended, or that it is in doubt while it
-- waits for another try; its state otherwise.
CREATE OR REPLACE FUNCTION job_shown(state text, outcome text)
    RETURNS text
    LANGUAGE sql
    IMMUTABLE
AS $$
    SELECT CASE WHEN state IN ('done', 'failed') THEN coalesce(outcome, state)
                WHEN state = 'queued' AND outcome = 'in-doubt' THEN 'in-doubt' ELSE state END
$$;
