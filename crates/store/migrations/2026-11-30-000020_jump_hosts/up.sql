-- The device through which another one is reached. The keys see to it that this one is reached directly.
ALTER TABLE device ADD COLUMN jump_host_id uuid;
ALTER TABLE device ADD COLUMN is_direct boolean NOT NULL GENERATED ALWAYS AS (jump_host_id IS NULL) STORED;
ALTER TABLE device ADD COLUMN behind_direct boolean GENERATED ALWAYS AS (CASE WHEN jump_host_id IS NULL THEN NULL ELSE true END) STORED;
ALTER TABLE device ADD CONSTRAINT device_direct_key UNIQUE (organisation, id, is_direct);
ALTER TABLE device ADD CONSTRAINT device_behind FOREIGN KEY (organisation, jump_host_id, behind_direct)
    REFERENCES device(organisation, id, is_direct);
CREATE INDEX device_jump_host ON device (jump_host_id) WHERE (jump_host_id IS NOT NULL);

-- The address, port and identity of a jump host's binding are those of the host. Of the other bindings, the way is
-- the jump host that was confirmed, empty when there was none.
ALTER TABLE binding ADD COLUMN way text DEFAULT '' NOT NULL;
ALTER TABLE binding DROP CONSTRAINT binding_role_check;
ALTER TABLE binding ADD CONSTRAINT binding_role_check CHECK (role IN ('account', 'operator', 'jump-host'));
CREATE UNIQUE INDEX binding_jump_host ON binding (device_id) WHERE (role = 'jump-host');
