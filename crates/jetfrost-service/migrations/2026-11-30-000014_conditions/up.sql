-- Two more reasons why a backup waits. A check cannot be changed: the tables are made again.
ALTER TABLE agents RENAME TO agents_before;
CREATE TABLE agents (
    workstation_id TEXT NOT NULL PRIMARY KEY REFERENCES workstations (id),
    seen BIGINT NOT NULL CHECK (seen BETWEEN 0 AND 253402300799999),
    due BIGINT CHECK (due BETWEEN 0 AND 253402300799999),
    delay TEXT CHECK (delay IN ('paused', 'paused_by_office', 'clock_implausible', 'another_run', 'outside_hours', 'on_battery', 'metered_connection', 'machine_busy', 'office_unreachable', 'backups_paused', 'queued', 'limit_reached', 'destination_unavailable', 'passphrase_needed', 'source_missing')),
    delayed BIGINT CHECK (delayed BETWEEN 0 AND 253402300799999),
    -- Failures in a row as the agent counts them: it also knows of those that never began a run.
    failures BIGINT NOT NULL DEFAULT 0 CHECK (failures >= 0),
    CHECK ((delay IS NULL) = (delayed IS NULL))
);
INSERT INTO agents (workstation_id, seen, due, delay, delayed, failures)
    SELECT workstation_id, seen, due, delay, delayed, failures FROM agents_before;
DROP TABLE agents_before;

ALTER TABLE waits RENAME TO waits_before;
CREATE TABLE waits (
    number INTEGER PRIMARY KEY,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    reason TEXT NOT NULL CHECK (reason IN ('paused', 'paused_by_office', 'clock_implausible', 'another_run', 'outside_hours', 'on_battery', 'metered_connection', 'machine_busy', 'office_unreachable', 'backups_paused', 'queued', 'limit_reached', 'destination_unavailable', 'passphrase_needed', 'source_missing')),
    since BIGINT NOT NULL CHECK (since BETWEEN 0 AND 253402300799999),
    until BIGINT NOT NULL CHECK (until BETWEEN 0 AND 253402300799999 AND until >= since),
    UNIQUE (workstation_id, since, reason)
);
INSERT INTO waits (number, workstation_id, reason, since, until) SELECT number, workstation_id, reason, since, until FROM waits_before;
DROP TABLE waits_before;
