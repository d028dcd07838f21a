-- Gates, requests, checkouts, and acts that take a second person.

CREATE TABLE gate (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid,
    credential_id uuid,
    needs_reason boolean NOT NULL,
    needs_approval boolean NOT NULL,
    max_minutes integer NOT NULL,
    one_holder boolean NOT NULL,
    rotate_on_return boolean NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    -- Gates are on a folder, a device or a credential.
    device_id uuid,
    CONSTRAINT gate_pkey PRIMARY KEY (id),
    CONSTRAINT gate_check CHECK (num_nonnulls(folder_id, device_id, credential_id) = 1),
    CONSTRAINT gate_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT gate_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT gate_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT gate_device FOREIGN KEY (organisation, device_id) REFERENCES device(organisation, id)
);
CREATE INDEX gate_credential ON gate (credential_id) WHERE (credential_id IS NOT NULL);
CREATE UNIQUE INDEX gate_place ON gate (folder_id, device_id, credential_id) NULLS NOT DISTINCT;
ALTER TABLE gate ENABLE ROW LEVEL SECURITY;
ALTER TABLE gate FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON gate USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON gate TO jexlin_service;

CREATE TABLE gate_approver (
    organisation uuid NOT NULL,
    gate_id uuid NOT NULL,
    subject uuid NOT NULL,
    subject_is_group boolean NOT NULL,
    CONSTRAINT gate_approver_pkey PRIMARY KEY (gate_id, subject),
    CONSTRAINT gate_approver_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT gate_approver_gate_id_fkey FOREIGN KEY (gate_id) REFERENCES gate(id) ON DELETE CASCADE
);
ALTER TABLE gate_approver ENABLE ROW LEVEL SECURITY;
ALTER TABLE gate_approver FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON gate_approver USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON gate_approver TO jexlin_service;

CREATE TABLE request (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    person_id uuid NOT NULL,
    reason text NOT NULL,
    minutes integer NOT NULL,
    state text NOT NULL,
    asked_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    decided_at timestamptz,
    decided_by uuid,
    comment text DEFAULT '' NOT NULL,
    checkout_id uuid,
    CONSTRAINT request_pkey PRIMARY KEY (id),
    CONSTRAINT request_state_check CHECK (state IN ('waiting', 'approved', 'refused', 'withdrawn', 'expired')),
    CONSTRAINT request_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT request_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT request_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT request_decided_by_fkey FOREIGN KEY (decided_by) REFERENCES person(id)
);
CREATE INDEX request_recent ON request (organisation, asked_at DESC, id DESC);
CREATE INDEX request_open ON request (organisation, expires_at) WHERE (state IN ('waiting', 'approved'));
ALTER TABLE request ENABLE ROW LEVEL SECURITY;
ALTER TABLE request FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON request USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON request TO jexlin_service;

CREATE TABLE checkout (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    person_id uuid NOT NULL,
    request_id uuid,
    reason text NOT NULL,
    starts_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    ended_at timestamptz,
    ended_how text,
    rotate_on_return boolean NOT NULL,
    one_holder boolean NOT NULL,
    CONSTRAINT checkout_pkey PRIMARY KEY (id),
    CONSTRAINT checkout_ended_how_check CHECK (ended_how IN ('check-in', 'time', 'recalled')),
    CONSTRAINT checkout_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT checkout_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT checkout_person_id_fkey FOREIGN KEY (person_id) REFERENCES person(id),
    CONSTRAINT checkout_request_id_fkey FOREIGN KEY (request_id) REFERENCES request(id)
);
CREATE INDEX checkout_open ON checkout (credential_id) WHERE (ended_at IS NULL);
CREATE INDEX checkout_holder ON checkout (person_id, starts_at DESC);
CREATE INDEX checkout_overdue ON checkout (organisation, ends_at) WHERE (ended_at IS NULL);
-- Two people cannot take the same thing in the same moment when only one may hold it.
CREATE UNIQUE INDEX checkout_one_holder ON checkout (credential_id) WHERE ((ended_at IS NULL) AND one_holder);
CREATE UNIQUE INDEX checkout_once_each ON checkout (credential_id, person_id) WHERE (ended_at IS NULL);
ALTER TABLE checkout ENABLE ROW LEVEL SECURITY;
ALTER TABLE checkout FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON checkout USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON checkout TO jexlin_service;

-- The gates that a request is for, at their versions when it was asked, and who approved at each.
CREATE TABLE request_gate (
    organisation uuid NOT NULL,
    request_id uuid NOT NULL,
    gate_id uuid NOT NULL,
    gate_revision integer NOT NULL,
    needs_approval boolean NOT NULL,
    approved_by uuid,
    approved_at timestamptz,
    CONSTRAINT request_gate_pkey PRIMARY KEY (request_id, gate_id),
    CONSTRAINT request_gate_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT request_gate_request_id_fkey FOREIGN KEY (request_id) REFERENCES request(id) ON DELETE CASCADE,
    CONSTRAINT request_gate_approved_by_fkey FOREIGN KEY (approved_by) REFERENCES person(id)
);
ALTER TABLE request_gate ENABLE ROW LEVEL SECURITY;
ALTER TABLE request_gate FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON request_gate USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON request_gate TO jexlin_service;

-- The gates that a checkout was taken through, at their versions then.
CREATE TABLE checkout_gate (
    organisation uuid NOT NULL,
    checkout_id uuid NOT NULL,
    gate_id uuid NOT NULL,
    gate_revision integer NOT NULL,
    CONSTRAINT checkout_gate_pkey PRIMARY KEY (checkout_id, gate_id),
    CONSTRAINT checkout_gate_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT checkout_gate_checkout_id_fkey FOREIGN KEY (checkout_id) REFERENCES checkout(id) ON DELETE CASCADE
);
ALTER TABLE checkout_gate ENABLE ROW LEVEL SECURITY;
ALTER TABLE checkout_gate FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON checkout_gate USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT ON checkout_gate TO jexlin_service;

-- A sensitive change that waits for a second person.
CREATE TABLE pending_act (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    act text NOT NULL,
    summary text NOT NULL,
    target_type text NOT NULL,
    target uuid NOT NULL,
    target_name text NOT NULL,
    body jsonb NOT NULL,
    state text NOT NULL,
    proposed_by uuid NOT NULL,
    proposed_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    decided_by uuid,
    decided_at timestamptz,
    comment text DEFAULT '' NOT NULL,
    CONSTRAINT pending_act_pkey PRIMARY KEY (id),
    CONSTRAINT pending_act_state_check CHECK (state IN ('waiting', 'confirmed', 'refused', 'withdrawn', 'expired')),
    CONSTRAINT pending_act_check CHECK ((decided_by IS NULL) OR (state = 'withdrawn') OR (decided_by <> proposed_by)),
    CONSTRAINT pending_act_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT pending_act_proposed_by_fkey FOREIGN KEY (proposed_by) REFERENCES person(id),
    CONSTRAINT pending_act_decided_by_fkey FOREIGN KEY (decided_by) REFERENCES person(id)
);
CREATE INDEX pending_act_recent ON pending_act (organisation, proposed_at DESC, id DESC);
CREATE INDEX pending_act_waiting ON pending_act (organisation, expires_at) WHERE (state = 'waiting');
ALTER TABLE pending_act ENABLE ROW LEVEL SECURITY;
ALTER TABLE pending_act FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON pending_act USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON pending_act TO jexlin_service;
