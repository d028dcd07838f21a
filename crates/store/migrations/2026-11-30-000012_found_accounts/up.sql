-- The accounts that devices say they have, as they were last read; and the jobs that read them.
CREATE TABLE found_account (
    organisation uuid NOT NULL,
    device_id uuid NOT NULL,
    login text NOT NULL,
    facts jsonb NOT NULL,
    CONSTRAINT found_account_pkey PRIMARY KEY (device_id, login),
    CONSTRAINT found_account_organisation_fkey FOREIGN KEY (organisation) REFERENCES organisation(id),
    CONSTRAINT found_account_device FOREIGN KEY (organisation, device_id) REFERENCES device(organisation, id) ON DELETE CASCADE
);
ALTER TABLE found_account ENABLE ROW LEVEL SECURITY;
ALTER TABLE found_account FORCE ROW LEVEL SECURITY;
CREATE POLICY inside ON found_account USING (organisation = (SELECT scope()));
GRANT INSERT, SELECT, DELETE ON found_account TO jexlin_service;
ALTER TABLE job DROP CONSTRAINT job_task_check;
ALTER TABLE job ADD CONSTRAINT job_task_check CHECK (task IN ('check', 'rotation', 'listing'));
CREATE INDEX job_listing ON job (device_id, queued_at DESC) WHERE (task = 'listing');
