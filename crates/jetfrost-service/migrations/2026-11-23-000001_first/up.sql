CREATE TABLE installation (
    id TEXT PRIMARY KEY NOT NULL,
    created BIGINT NOT NULL,
    first_code_hash BLOB
);

CREATE TABLE accounts (
    id TEXT PRIMARY KEY NOT NULL,
    login TEXT NOT NULL,
    login_key TEXT NOT NULL UNIQUE,
    display_name TEXT NOT NULL,
    role TEXT NOT NULL,
    password BLOB,
    created BIGINT NOT NULL
);

CREATE TABLE groups (
    id TEXT PRIMARY KEY NOT NULL,
    name TEXT NOT NULL,
    name_key TEXT NOT NULL UNIQUE
);

CREATE TABLE group_members (
    group_id TEXT NOT NULL REFERENCES groups (id),
    account_id TEXT NOT NULL REFERENCES accounts (id),
    PRIMARY KEY (group_id, account_id)
);
CREATE INDEX group_members_by_account ON group_members (account_id);

CREATE TABLE destinations (
    id TEXT PRIMARY KEY NOT NULL,
    name TEXT NOT NULL,
    name_key TEXT NOT NULL UNIQUE,
    directory TEXT NOT NULL UNIQUE,
    capacity BIGINT,
    reserve BIGINT NOT NULL,
    created BIGINT NOT NULL
);

CREATE TABLE workstations (
    id TEXT PRIMARY KEY NOT NULL,
    name TEXT NOT NULL,
    name_key TEXT NOT NULL UNIQUE,
    account_id TEXT NOT NULL REFERENCES accounts (id),
    credential_hash BLOB NOT NULL UNIQUE,
    platform TEXT NOT NULL,
    client_version TEXT NOT NULL,
    disk_bytes BIGINT,
    rhythm_seconds BIGINT NOT NULL,
    enrolled BIGINT NOT NULL,
    last_seen BIGINT,
    latest_run BIGINT
);
CREATE INDEX workstations_by_account ON workstations (account_id);

CREATE TABLE stores (
    id TEXT PRIMARY KEY NOT NULL,
    workstation_id TEXT NOT NULL UNIQUE REFERENCES workstations (id),
    destination_id TEXT NOT NULL REFERENCES destinations (id),
    points BIGINT NOT NULL,
    latest_sequence BIGINT,
    created BIGINT NOT NULL
);
CREATE INDEX stores_by_destination ON stores (destination_id);

CREATE TABLE enrolment_codes (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    id TEXT NOT NULL UNIQUE,
    secret_hash BLOB NOT NULL UNIQUE,
    account_id TEXT NOT NULL REFERENCES accounts (id),
    destination_id TEXT NOT NULL REFERENCES destinations (id),
    created BIGINT NOT NULL,
    expires BIGINT NOT NULL,
    used BIGINT,
    cancelled BIGINT,
    workstation_id TEXT REFERENCES workstations (id)
);
CREATE INDEX enrolment_codes_by_account ON enrolment_codes (account_id);
CREATE INDEX enrolment_codes_by_destination ON enrolment_codes (destination_id);
CREATE INDEX enrolment_codes_by_workstation ON enrolment_codes (workstation_id);

CREATE TABLE runs (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    id TEXT NOT NULL UNIQUE,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    outcome TEXT NOT NULL,
    phase TEXT NOT NULL,
    files_done BIGINT NOT NULL,
    files_total BIGINT,
    bytes_done BIGINT NOT NULL,
    bytes_total BIGINT,
    sent BIGINT NOT NULL,
    started BIGINT NOT NULL,
    last_heard BIGINT NOT NULL,
    ended BIGINT,
    sequence BIGINT,
    changed_while_read BIGINT NOT NULL,
    unreadable BIGINT NOT NULL,
    disappeared BIGINT NOT NULL,
    reason TEXT
);
CREATE INDEX runs_by_workstation ON runs (workstation_id, number);

CREATE TABLE points (
    store_id TEXT NOT NULL REFERENCES stores (id),
    sequence BIGINT NOT NULL,
    run_number BIGINT REFERENCES runs (number),
    kind TEXT NOT NULL,
    created BIGINT NOT NULL,
    files BIGINT NOT NULL,
    bytes BIGINT NOT NULL,
    exceptions BIGINT NOT NULL,
    sent BIGINT NOT NULL,
    PRIMARY KEY (store_id, sequence)
);
CREATE INDEX points_by_run ON points (run_number);

CREATE TABLE restores (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    id TEXT NOT NULL UNIQUE,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    sequence BIGINT NOT NULL,
    scope TEXT NOT NULL,
    by TEXT NOT NULL,
    outcome TEXT NOT NULL,
    files_done BIGINT NOT NULL,
    files_total BIGINT,
    bytes_done BIGINT NOT NULL,
    bytes_total BIGINT,
    sent BIGINT NOT NULL,
    exceptions BIGINT NOT NULL,
    started BIGINT NOT NULL,
    last_heard BIGINT NOT NULL,
    ended BIGINT,
    reason TEXT
);
CREATE INDEX restores_by_workstation ON restores (workstation_id, number);

CREATE TABLE sessions (
    id TEXT PRIMARY KEY NOT NULL,
    secret_hash BLOB NOT NULL UNIQUE,
    account_id TEXT NOT NULL REFERENCES accounts (id),
    carry TEXT NOT NULL,
    label TEXT NOT NULL,
    created BIGINT NOT NULL,
    last_used BIGINT NOT NULL,
    expires BIGINT NOT NULL
);
CREATE INDEX sessions_by_account ON sessions (account_id);

CREATE TABLE audit (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    at BIGINT NOT NULL,
    who TEXT NOT NULL,
    origin TEXT NOT NULL,
    what TEXT NOT NULL,
    subject TEXT NOT NULL
);
