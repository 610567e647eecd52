-- Who may use which destination, accounts that can be disabled and removed, workstations without a machine,
-- destinations that are withdrawn or erased, sessions with a scope, and an audit log whose entries are chained.

-- What was there before was open to everybody, and stays so.
ALTER TABLE destinations ADD COLUMN openness TEXT NOT NULL DEFAULT 'everybody';
ALTER TABLE destinations ADD COLUMN description TEXT NOT NULL DEFAULT '';
ALTER TABLE destinations ADD COLUMN default_limit BIGINT;
ALTER TABLE destinations ADD COLUMN withdrawn BIGINT;
ALTER TABLE destinations ADD COLUMN withdrawn_by TEXT;
ALTER TABLE destinations ADD COLUMN missing_since BIGINT;
ALTER TABLE destinations ADD COLUMN erase_asked TEXT;
ALTER TABLE destinations ADD COLUMN erases BIGINT;
ALTER TABLE destinations ADD COLUMN erasing_by TEXT;
ALTER TABLE destinations ADD COLUMN gone BIGINT;
ALTER TABLE destinations ADD COLUMN records_copied BIGINT;
ALTER TABLE destinations ADD COLUMN records_trouble TEXT;

CREATE TABLE destination_groups (
    destination_id TEXT NOT NULL REFERENCES destinations (id),
    group_id TEXT NOT NULL REFERENCES groups (id),
    PRIMARY KEY (destination_id, group_id)
);
CREATE INDEX destination_groups_by_group ON destination_groups (group_id);

CREATE TABLE destination_accounts (
    destination_id TEXT NOT NULL REFERENCES destinations (id),
    account_id TEXT NOT NULL REFERENCES accounts (id),
    PRIMARY KEY (destination_id, account_id)
);
CREATE INDEX destination_accounts_by_account ON destination_accounts (account_id);

ALTER TABLE accounts ADD COLUMN kind TEXT NOT NULL DEFAULT 'person';
ALTER TABLE accounts ADD COLUMN disabled BIGINT;
ALTER TABLE accounts ADD COLUMN disabled_by TEXT;
ALTER TABLE accounts ADD COLUMN removed BIGINT;
ALTER TABLE accounts ADD COLUMN totp BLOB;
ALTER TABLE accounts ADD COLUMN totp_since BIGINT;
ALTER TABLE accounts ADD COLUMN totp_step BIGINT NOT NULL DEFAULT 0;

CREATE TABLE spare_codes (
    account_id TEXT NOT NULL REFERENCES accounts (id),
    code_hash BLOB NOT NULL,
    PRIMARY KEY (account_id, code_hash)
);

ALTER TABLE groups ADD COLUMN default_limit BIGINT;
ALTER TABLE groups ADD COLUMN default_quota BIGINT;

-- A workstation rests when no machine has its credential: 'retired' or 'unclaimed'.
ALTER TABLE workstations ADD COLUMN rest TEXT;
ALTER TABLE workstations ADD COLUMN rest_since BIGINT;
ALTER TABLE workstations ADD COLUMN rest_by TEXT;

ALTER TABLE enrolment_codes ADD COLUMN claims TEXT REFERENCES workstations (id);

ALTER TABLE sessions ADD COLUMN scope TEXT NOT NULL DEFAULT 'all';
ALTER TABLE sessions ADD COLUMN origin TEXT NOT NULL DEFAULT '';

ALTER TABLE audit ADD COLUMN before TEXT;
ALTER TABLE audit ADD COLUMN after TEXT;
ALTER TABLE audit ADD COLUMN refused BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE audit ADD COLUMN link BLOB;

ALTER TABLE installation ADD COLUMN accepting TEXT NOT NULL DEFAULT 'on';
ALTER TABLE installation ADD COLUMN paused_until BIGINT;
ALTER TABLE installation ADD COLUMN restores_stopped BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE installation ADD COLUMN important_change BIGINT;

-- Steps of the set-up list that somebody decided to leave as they are.
CREATE TABLE settled (
    step TEXT PRIMARY KEY NOT NULL,
    why TEXT NOT NULL,
    by TEXT NOT NULL,
    at BIGINT NOT NULL
);
