-- A page of what the viewer sees the name of and no more, and whether an access request of theirs waits.
CREATE OR REPLACE FUNCTION discoverable_for(viewer uuid, at timestamp with time zone, pattern text, after_name text, after_id uuid, size bigint)
    RETURNS TABLE(id uuid, name text, place text, kind text, asked boolean)
    LANGUAGE sql
    STABLE
AS $$
    SELECT c.id, c.name, coalesce(path_of(c.folder_id), '') AS place, c.kind,
           EXISTS (SELECT FROM access_request w WHERE w.credential_id = c.id AND w.person_id = $1 AND w.state = 'waiting') AS asked
    FROM discoverable($1, $2, $3, $4, $5, $6) AS found(id) JOIN credential c USING (id) ORDER BY lower(c.name), c.id
$$;
