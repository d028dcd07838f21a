-- Which connectors there are, the program's registry says: a new one needs no migration.
ALTER TABLE device DROP CONSTRAINT device_connector_check;
ALTER TABLE device ADD CONSTRAINT device_connector_check CHECK (connector ~ '^[a-z][a-z0-9-]{0,39}$');
