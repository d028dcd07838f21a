-- Accounts of hosts that are opened by an SSH key.
ALTER TABLE account DROP CONSTRAINT account_family_check;
ALTER TABLE account ADD CONSTRAINT account_family_check CHECK (family IN ('local', 'key', 'database', 'directory', 'application'));
