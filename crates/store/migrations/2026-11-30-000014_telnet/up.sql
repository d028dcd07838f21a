-- Command lines over Telnet as devices.
ALTER TABLE device DROP CONSTRAINT device_connector_check;
ALTER TABLE device ADD CONSTRAINT device_connector_check CHECK (connector IN ('ssh', 'postgresql', 'ldap', 'redis', 'active-directory', 'command-line', 'http-api', 'mariadb', 'telnet'));
