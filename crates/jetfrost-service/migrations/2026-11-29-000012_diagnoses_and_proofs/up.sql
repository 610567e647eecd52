-- What workstations found out about themselves; credentials that are over, so that whoever still has one is told why; and when somebody
-- last showed that a secret still opens an image store.
CREATE TABLE diagnoses (
    workstation_id TEXT NOT NULL PRIMARY KEY REFERENCES workstations (id),
    at BIGINT NOT NULL CHECK (at BETWEEN 0 AND 253402300799999),
    found TEXT NOT NULL CHECK (json_valid(found))
);
CREATE TABLE former_credentials (
    hash BLOB NOT NULL PRIMARY KEY,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    ended TEXT NOT NULL CHECK (ended IN ('retired', 'claimed', 'removed')),
    at BIGINT NOT NULL CHECK (at BETWEEN 0 AND 253402300799999)
);
CREATE TABLE proofs (
    store_id TEXT NOT NULL PRIMARY KEY REFERENCES stores (id),
    at BIGINT NOT NULL CHECK (at BETWEEN 0 AND 253402300799999),
    secret TEXT NOT NULL CHECK (secret IN ('passphrase', 'recovery_key', 'office_key'))
);

DROP TRIGGER told_guard_insert;
DROP TRIGGER told_guard_update;
CREATE TRIGGER told_guard_insert BEFORE INSERT ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'no_first_point', 'proof_due'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
CREATE TRIGGER told_guard_update BEFORE UPDATE ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'no_first_point', 'proof_due'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
