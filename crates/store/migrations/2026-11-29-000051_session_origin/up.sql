-- From which address a session was begun, so that its owner recognises it.
ALTER TABLE session ADD COLUMN origin text NOT NULL DEFAULT '';
CREATE INDEX session_of_person ON session (person_id) WHERE (ended_at IS NULL);
