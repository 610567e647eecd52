-- Restores that somebody asked a workstation's agent to do. What is to be restored is sealed, and goes when the order has ended.
CREATE TABLE orders (
    number INTEGER PRIMARY KEY,
    id TEXT NOT NULL UNIQUE,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    by TEXT NOT NULL,
    origin TEXT NOT NULL,
    state TEXT NOT NULL CHECK (state IN ('waiting', 'asking', 'underway', 'done', 'declined', 'failed', 'withdrawn', 'expired')),
    created BIGINT NOT NULL CHECK (created BETWEEN 0 AND 253402300799999),
    expires BIGINT NOT NULL CHECK (expires BETWEEN created AND 253402300799999),
    restore_id TEXT REFERENCES restores (id),
    reason TEXT,
    ended BIGINT CHECK (ended BETWEEN 0 AND 253402300799999),
    sealed BLOB,
    CHECK ((ended IS NULL) = (state IN ('waiting', 'asking', 'underway'))),
    CHECK ((ended IS NULL) = (sealed IS NOT NULL))
);
CREATE INDEX orders_by_workstation ON orders (workstation_id, number);
