-- Password policies, and what is known of passwords.

CREATE TABLE password_policy (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    name text NOT NULL,
    rules jsonb NOT NULL,
    is_default boolean DEFAULT false NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    CONSTRAINT password_policy_pkey PRIMARY KEY (id),
    CONSTRAINT password_policy_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
CREATE UNIQUE INDEX password_policy_name ON password_policy (organisation, lower(name));
CREATE UNIQUE INDEX password_policy_default ON password_policy (organisation) WHERE is_default;
ALTER TABLE password_policy ENABLE ROW LEVEL SECURITY;
ALTER TABLE password_policy FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON password_policy USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON password_policy TO jexlin_service;

-- What a folder demands of the passwords in it; the nearest counts.
CREATE TABLE password_rule (
    folder_id uuid NOT NULL,
    organisation uuid NOT NULL,
    mode text NOT NULL,
    policies uuid[] NOT NULL,
    CONSTRAINT password_rule_pkey PRIMARY KEY (folder_id),
    CONSTRAINT password_rule_mode_check CHECK (mode IN ('advise', 'enforce', 'choose')),
    CONSTRAINT password_rule_policies_check CHECK (cardinality(policies) > 0),
    CONSTRAINT password_rule_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT password_rule_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE password_rule ENABLE ROW LEVEL SECURITY;
ALTER TABLE password_rule FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON password_rule USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON password_rule TO jexlin_service;

-- What is known of the current password of a credential without opening it.
CREATE TABLE assessment (
    credential_id uuid NOT NULL,
    organisation uuid NOT NULL,
    number integer NOT NULL,
    score smallint NOT NULL,
    fingerprint bytea NOT NULL,
    lacks text[] NOT NULL,
    leaked bigint NOT NULL,
    made_at timestamptz NOT NULL,
    -- Whether rules, kind or the file of leaked passwords have changed since.
    stale boolean DEFAULT false NOT NULL,
    CONSTRAINT assessment_pkey PRIMARY KEY (credential_id),
    CONSTRAINT assessment_score_check CHECK ((score >= 0) AND (score <= 4)),
    CONSTRAINT assessment_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id)
);
CREATE INDEX assessment_same ON assessment (organisation, fingerprint);
CREATE INDEX assessment_stale ON assessment (organisation) WHERE stale;
CREATE INDEX assessment_leaked ON assessment (organisation) WHERE (leaked > 0);
CREATE INDEX assessment_lacks ON assessment (organisation) WHERE (cardinality(lacks) > 0);
CREATE INDEX assessment_score ON assessment (organisation, score);
CREATE INDEX assessment_made ON assessment (organisation, made_at);
ALTER TABLE assessment ENABLE ROW LEVEL SECURITY;
ALTER TABLE assessment FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON assessment USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON assessment TO jexlin_service;
