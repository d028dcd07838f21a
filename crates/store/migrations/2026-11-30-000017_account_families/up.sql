-- Accounts of one machine that are changed in different ways: each way is an entry of its own, with its
-- type, address, identity and operator, and belongs to the machine's first one, in the same folder.
-- The keys see to it: such an entry belongs to one that belongs to none.
ALTER TABLE device ADD COLUMN family_of uuid;
ALTER TABLE device ADD COLUMN is_main boolean NOT NULL GENERATED ALWAYS AS (family_of IS NULL) STORED;
ALTER TABLE device ADD COLUMN of_main boolean GENERATED ALWAYS AS (CASE WHEN family_of IS NULL THEN NULL ELSE true END) STORED;
ALTER TABLE device ADD CONSTRAINT device_main_key UNIQUE (organisation, id, folder_id, is_main);
ALTER TABLE device ADD CONSTRAINT device_family FOREIGN KEY (organisation, family_of, folder_id, of_main)
    REFERENCES device(organisation, id, folder_id, is_main) DEFERRABLE INITIALLY DEFERRED;
-- When the first one is purged, the others stand for themselves.
ALTER TABLE device ADD CONSTRAINT device_family_of FOREIGN KEY (organisation, family_of)
    REFERENCES device(organisation, id) ON DELETE SET NULL (family_of);
CREATE INDEX device_families ON device (family_of) WHERE (family_of IS NOT NULL);
