-- The devices that an import added, so that undoing it removes those that are not used.
ALTER TABLE device ADD COLUMN import_id uuid;
ALTER TABLE device ADD CONSTRAINT device_import FOREIGN KEY (import_id) REFERENCES import(id) DEFERRABLE INITIALLY DEFERRED;
CREATE INDEX device_by_import ON device (import_id) WHERE (import_id IS NOT NULL);
