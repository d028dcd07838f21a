-- What a device is, in its administrators' words: the platform as a label, and a description.
ALTER TABLE device ADD COLUMN platform text DEFAULT '' NOT NULL;
ALTER TABLE device ADD COLUMN description text DEFAULT '' NOT NULL;
