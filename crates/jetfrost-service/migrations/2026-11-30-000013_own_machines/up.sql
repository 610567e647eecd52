-- Whether people may make workstations of their own machines.
ALTER TABLE installation ADD COLUMN own_machines BOOLEAN NOT NULL DEFAULT 0 CHECK (own_machines IN (0, 1));
