-- Two people who change the terms of one grant do not undo each other's change unseen.
ALTER TABLE access_grant ADD COLUMN version integer NOT NULL DEFAULT 1;
