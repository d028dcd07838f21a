-- Accounts on devices, their plans and jobs.

-- An account: a login name on a device. At most one credential is its password. What upkeep knows,
-- the lockout budget, jobs and plans belong to it and stay when the credential changes.
CREATE TABLE account (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    device_id uuid NOT NULL,
    family text NOT NULL,
    login text NOT NULL,
    -- The login as devices of this family compare names.
    login_key text NOT NULL,
    credential_id uuid,
    created_at timestamptz NOT NULL,
    -- Whether the due times must be worked out again.
    stale boolean DEFAULT true NOT NULL,
    next_check_at timestamptz,
    next_rotation_at timestamptz,
    checked_at timestamptz,
    check_outcome text,
    rotated_at timestamptz,
    rotation_outcome text,
    -- A rotation that the end of a checkout asks for: since when, and when it is tried next. Only a
    -- rotation that is done clears it.
    rotation_owed_at timestamptz,
    owed_tries integer DEFAULT 0 NOT NULL,
    owed_next_at timestamptz,
    CONSTRAINT account_pkey PRIMARY KEY (id),
    CONSTRAINT account_credential_id_key UNIQUE (credential_id),
    CONSTRAINT account_organisation_id_key UNIQUE (organisation, id),
    CONSTRAINT account_family_check CHECK (family IN ('local', 'database', 'directory', 'application')),
    CONSTRAINT account_login_check CHECK (login <> ''),
    CONSTRAINT account_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT account_device FOREIGN KEY (organisation, device_id) REFERENCES device(organisation, id),
    CONSTRAINT account_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id)
);
CREATE UNIQUE INDEX account_login ON account (device_id, family, login_key);
CREATE INDEX account_stale ON account (organisation) WHERE stale;
CREATE INDEX account_check ON account (organisation, next_check_at) WHERE (next_check_at IS NOT NULL);
CREATE INDEX account_rotation ON account (organisation, next_rotation_at) WHERE (next_rotation_at IS NOT NULL);
CREATE INDEX account_outcome ON account (organisation, check_outcome) WHERE (check_outcome IS NOT NULL);
CREATE INDEX account_owed ON account (organisation, owed_next_at) WHERE (rotation_owed_at IS NOT NULL);
ALTER TABLE account ENABLE ROW LEVEL SECURITY;
ALTER TABLE account FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON account USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON account TO jexlin_service;

-- A binding: this credential's password may be sent to this endpoint, as account or as operator.
CREATE TABLE binding (
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    device_id uuid NOT NULL,
    role text NOT NULL,
    address text NOT NULL,
    port integer NOT NULL,
    identity text NOT NULL,
    confirmed_at timestamptz NOT NULL,
    confirmed_by uuid,
    CONSTRAINT binding_pkey PRIMARY KEY (device_id, credential_id, role),
    CONSTRAINT binding_role_check CHECK (role IN ('account', 'operator')),
    CONSTRAINT binding_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT binding_confirmed_by_fkey FOREIGN KEY (confirmed_by) REFERENCES person(id),
    CONSTRAINT binding_device FOREIGN KEY (organisation, device_id) REFERENCES device(organisation, id),
    CONSTRAINT binding_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id)
);
CREATE UNIQUE INDEX binding_operator ON binding (device_id) WHERE (role = 'operator');
CREATE UNIQUE INDEX binding_account ON binding (credential_id) WHERE (role = 'account');
ALTER TABLE binding ENABLE ROW LEVEL SECURITY;
ALTER TABLE binding FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON binding USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON binding TO jexlin_service;

-- Where a credential may be used as an operator: its stewards name devices, or folders of devices.
CREATE TABLE operator_scope (
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    device_id uuid,
    folder_id uuid,
    CONSTRAINT operator_scope_check CHECK (num_nonnulls(device_id, folder_id) = 1),
    CONSTRAINT operator_scope_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT operator_scope_credential FOREIGN KEY (organisation, credential_id) REFERENCES credential(organisation, id),
    CONSTRAINT operator_scope_device FOREIGN KEY (organisation, device_id) REFERENCES device(organisation, id),
    CONSTRAINT operator_scope_folder FOREIGN KEY (organisation, folder_id) REFERENCES folder(organisation, id)
);
CREATE UNIQUE INDEX operator_scope_once ON operator_scope (credential_id, device_id, folder_id) NULLS NOT DISTINCT;
ALTER TABLE operator_scope ENABLE ROW LEVEL SECURITY;
ALTER TABLE operator_scope FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON operator_scope USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, DELETE ON operator_scope TO jexlin_service;

CREATE TABLE upkeep_plan (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    folder_id uuid,
    check_rule text,
    out_of_sync text NOT NULL,
    rotate_rule text,
    rotate_days integer,
    hours_from text,
    hours_to text,
    time_zone text NOT NULL,
    policy_id uuid,
    anchor date NOT NULL,
    revision integer DEFAULT 1 NOT NULL,
    -- Plans are set on a folder or an account.
    account_id uuid,
    CONSTRAINT upkeep_plan_pkey PRIMARY KEY (id),
    CONSTRAINT upkeep_plan_out_of_sync_check CHECK (out_of_sync IN ('report', 'rotate', 'both')),
    CONSTRAINT upkeep_plan_check1 CHECK (num_nonnulls(rotate_rule, rotate_days) <= 1),
    CONSTRAINT upkeep_plan_check2 CHECK (num_nonnulls(hours_from, hours_to) = ANY (ARRAY[0, 2])),
    CONSTRAINT upkeep_plan_check CHECK (num_nonnulls(folder_id, account_id) = 1),
    CONSTRAINT upkeep_plan_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT upkeep_plan_folder_id_fkey FOREIGN KEY (folder_id) REFERENCES folder(id),
    CONSTRAINT upkeep_plan_policy_id_fkey FOREIGN KEY (policy_id) REFERENCES password_policy(id),
    CONSTRAINT upkeep_plan_account FOREIGN KEY (organisation, account_id) REFERENCES account(organisation, id)
);
CREATE UNIQUE INDEX upkeep_plan_place ON upkeep_plan (folder_id, account_id) NULLS NOT DISTINCT;
ALTER TABLE upkeep_plan ENABLE ROW LEVEL SECURITY;
ALTER TABLE upkeep_plan FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON upkeep_plan USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE, DELETE ON upkeep_plan TO jexlin_service;

-- Logins that failed, for the lockout budget.
CREATE TABLE failed_login (
    organisation uuid NOT NULL,
    account_id uuid NOT NULL,
    at timestamptz NOT NULL,
    CONSTRAINT failed_login_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT failed_login_account FOREIGN KEY (organisation, account_id) REFERENCES account(organisation, id)
);
CREATE INDEX failed_login_recent ON failed_login (account_id, at);
ALTER TABLE failed_login ENABLE ROW LEVEL SECURITY;
ALTER TABLE failed_login FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON failed_login USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, DELETE ON failed_login TO jexlin_service;

CREATE TABLE job (
    id uuid NOT NULL,
    organisation uuid NOT NULL,
    credential_id uuid NOT NULL,
    device_id uuid NOT NULL,
    task text NOT NULL,
    method text DEFAULT 'operator' NOT NULL,
    state text NOT NULL,
    step text DEFAULT '' NOT NULL,
    outcome text,
    message text DEFAULT '' NOT NULL,
    asked_by uuid,
    cause text NOT NULL,
    queued_at timestamptz NOT NULL,
    not_before timestamptz NOT NULL,
    started_at timestamptz,
    finished_at timestamptz,
    attempts integer DEFAULT 0 NOT NULL,
    leased_until timestamptz,
    -- Leases have a token; one job an account; a job that the service itself cannot carry out ends.
    account_id uuid NOT NULL,
    fence bigint DEFAULT 0 NOT NULL,
    faults integer DEFAULT 0 NOT NULL,
    CONSTRAINT job_pkey PRIMARY KEY (id),
    CONSTRAINT job_cause_check CHECK (cause IN ('plan', 'return', 'out-of-sync', 'person')),
    CONSTRAINT job_task_check CHECK (task IN ('check', 'rotation')),
    CONSTRAINT job_method_check CHECK (method IN ('operator', 'self')),
    CONSTRAINT job_state_check CHECK (state IN ('queued', 'running', 'done', 'failed')),
    CONSTRAINT job_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT job_credential_id_fkey FOREIGN KEY (credential_id) REFERENCES credential(id),
    CONSTRAINT job_device_id_fkey FOREIGN KEY (device_id) REFERENCES device(id),
    CONSTRAINT job_asked_by_fkey FOREIGN KEY (asked_by) REFERENCES person(id),
    CONSTRAINT job_account FOREIGN KEY (organisation, account_id) REFERENCES account(organisation, id)
);
CREATE INDEX job_waiting ON job (organisation, not_before) WHERE (state IN ('queued', 'running'));
CREATE INDEX job_recent ON job (organisation, queued_at DESC, id DESC);
CREATE INDEX job_credential ON job (credential_id, queued_at DESC);
CREATE INDEX job_device ON job (device_id) WHERE (state = 'running');
-- One job per account at a time.
CREATE UNIQUE INDEX job_one_at_a_time ON job (account_id) WHERE (state IN ('queued', 'running'));
CREATE INDEX job_running ON job (organisation) WHERE (state = 'running');
ALTER TABLE job ENABLE ROW LEVEL SECURITY;
ALTER TABLE job FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON job USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, UPDATE ON job TO jexlin_service;
