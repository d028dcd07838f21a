-- The audit log.

-- The audit log (promise 7). Rows are inserted and never touched again.
CREATE TABLE audit_event (
    seq bigint GENERATED ALWAYS AS IDENTITY,
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    at timestamptz NOT NULL,
    action text NOT NULL,
    actor uuid,
    actor_name text NOT NULL,
    target uuid,
    target_type text NOT NULL,
    target_name text NOT NULL,
    origin text NOT NULL,
    outcome text NOT NULL,
    detail jsonb NOT NULL,
    mac bytea NOT NULL,
    key_number integer DEFAULT 1 NOT NULL,
    CONSTRAINT audit_event_pkey PRIMARY KEY (id)
);
CREATE UNIQUE INDEX audit_event_seq ON audit_event (organisation, seq);
CREATE INDEX audit_event_target ON audit_event (target, seq) WHERE (target IS NOT NULL);
CREATE INDEX audit_event_actor ON audit_event (actor, seq) WHERE (actor IS NOT NULL);
ALTER TABLE audit_event ENABLE ROW LEVEL SECURITY;
ALTER TABLE audit_event FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON audit_event USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON audit_event TO jexlin_service;

CREATE TABLE audit_leaf (
    organisation uuid NOT NULL,
    leaf bigint NOT NULL,
    event_id uuid NOT NULL,
    hash bytea NOT NULL,
    CONSTRAINT audit_leaf_pkey PRIMARY KEY (organisation, leaf),
    CONSTRAINT audit_leaf_event_id_key UNIQUE (event_id)
);
ALTER TABLE audit_leaf ENABLE ROW LEVEL SECURITY;
ALTER TABLE audit_leaf FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON audit_leaf USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON audit_leaf TO jexlin_service;

CREATE TABLE audit_checkpoint (
    organisation uuid NOT NULL,
    size bigint NOT NULL,
    note text NOT NULL,
    made_at timestamptz NOT NULL,
    CONSTRAINT audit_checkpoint_pkey PRIMARY KEY (organisation, size)
);
ALTER TABLE audit_checkpoint ENABLE ROW LEVEL SECURITY;
ALTER TABLE audit_checkpoint FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON audit_checkpoint USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON audit_checkpoint TO jexlin_service;

-- The right edge of the tree: what the sealer needs to go on. It can be rebuilt from the leaves.
CREATE TABLE audit_frontier (
    organisation uuid NOT NULL,
    size bigint NOT NULL,
    roots bytea NOT NULL,
    -- Up to which number the last sealer has looked, and which numbers below were not to be seen yet: the next
    -- one goes on from there, whichever service it is.
    highest bigint DEFAULT 0 NOT NULL,
    gaps bigint[] DEFAULT '{}'::bigint[] NOT NULL,
    CONSTRAINT audit_frontier_pkey PRIMARY KEY (organisation)
);
ALTER TABLE audit_frontier ENABLE ROW LEVEL SECURITY;
ALTER TABLE audit_frontier FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON audit_frontier USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON audit_frontier TO jexlin_service;

-- What the workers noted last, to see that it has changed.
CREATE TABLE noted (
    organisation uuid NOT NULL,
    name text NOT NULL,
    value text NOT NULL,
    CONSTRAINT noted_pkey PRIMARY KEY (organisation, name),
    CONSTRAINT noted_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id)
);
ALTER TABLE noted ENABLE ROW LEVEL SECURITY;
ALTER TABLE noted FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON noted USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON noted TO jexlin_service;
