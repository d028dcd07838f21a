-- Jobs that go as far as a rotation can without changing anything.
ALTER TABLE job DROP CONSTRAINT job_task_check;
ALTER TABLE job ADD CONSTRAINT job_task_check CHECK (task IN ('check', 'rotation', 'listing', 'rehearsal'));
