-- Dialogues: files that say how to talk to a command line. A version is never changed: another text
-- is another version, and a device keeps the one that it was given until a steward gives it another.
CREATE TABLE dialogue (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    name text NOT NULL,
    number integer NOT NULL,
    text text NOT NULL,
    -- The SHA-256 of the text, hexadecimal.
    digest text NOT NULL,
    added_at timestamptz NOT NULL,
    added_by uuid,
    CONSTRAINT dialogue_pkey PRIMARY KEY (id),
    CONSTRAINT dialogue_organisation_id_key UNIQUE (organisation, id),
    CONSTRAINT dialogue_digest_key UNIQUE (organisation, id, digest),
    CONSTRAINT dialogue_number_check CHECK (number > 0),
    CONSTRAINT dialogue_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT dialogue_added_by_fkey FOREIGN KEY (added_by) REFERENCES person(id)
);
CREATE UNIQUE INDEX dialogue_version ON dialogue (organisation, lower(name), number);

ALTER TABLE device ADD COLUMN dialogue_id uuid;
ALTER TABLE device ADD COLUMN dialogue_digest text NOT NULL DEFAULT '';
ALTER TABLE device ADD CONSTRAINT device_dialogue_check CHECK (num_nonnulls(dialogue_id, nullif(dialogue_digest, '')) IN (0, 2));
ALTER TABLE device ADD CONSTRAINT device_dialogue FOREIGN KEY (organisation, dialogue_id, dialogue_digest) REFERENCES dialogue(organisation, id, digest);

-- By which dialogue the password may be sent, as its digest.
ALTER TABLE binding ADD COLUMN dialogue text NOT NULL DEFAULT '';
-- What was said and heard, without secrets.
ALTER TABLE job ADD COLUMN transcript text NOT NULL DEFAULT '';

ALTER TABLE dialogue ENABLE ROW LEVEL SECURITY;
ALTER TABLE dialogue FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON dialogue USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON dialogue TO jexlin_service;
