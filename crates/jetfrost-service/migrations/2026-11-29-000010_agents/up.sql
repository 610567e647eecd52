-- What agents of workstations last reported of themselves.
CREATE TABLE agents (
    workstation_id TEXT NOT NULL PRIMARY KEY REFERENCES workstations (id),
    seen BIGINT NOT NULL CHECK (seen BETWEEN 0 AND 253402300799999),
    due BIGINT CHECK (due BETWEEN 0 AND 253402300799999),
    delay TEXT CHECK (delay IN ('paused', 'clock_implausible', 'another_run', 'outside_hours', 'on_battery', 'office_unreachable',
        'backups_paused', 'limit_reached', 'destination_unavailable', 'passphrase_needed', 'source_missing')),
    delayed BIGINT CHECK (delayed BETWEEN 0 AND 253402300799999),
    CHECK ((delay IS NULL) = (delayed IS NULL))
);
