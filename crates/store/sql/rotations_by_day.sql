-- How many rotations of accounts that the viewer may know of ended well and badly on each of the last seven days,
-- as days are where the clock is so many minutes ahead of UTC. Days without any are left out.
CREATE OR REPLACE FUNCTION rotations_by_day(viewer uuid, at timestamp with time zone, minutes_ahead integer)
    RETURNS TABLE(day date, done bigint, failed bigint)
    LANGUAGE sql
    STABLE
AS $$
    WITH ended AS MATERIALIZED (
        SELECT j.credential_id, j.state, (j.finished_at AT TIME ZONE 'UTC' + make_interval(mins => $3))::date AS day
        FROM job j
        WHERE j.task = 'rotation' AND j.state IN ('done', 'failed')
          AND j.finished_at >= (($2 AT TIME ZONE 'UTC' + make_interval(mins => $3))::date - 6 - make_interval(mins => $3)) AT TIME ZONE 'UTC'
    )
    SELECT e.day, count(*) FILTER (WHERE e.state = 'done'), count(*) FILTER (WHERE e.state = 'failed')
    FROM ended e
    WHERE e.credential_id IN (SELECT reached_of($1, $2, ARRAY(SELECT DISTINCT o.credential_id FROM ended o)))
    GROUP BY e.day
    ORDER BY e.day
$$;
