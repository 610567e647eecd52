-- What is kept how long, limits, holds, and what waits to go. Destinations from before keep everything, as they did.

ALTER TABLE destinations ADD COLUMN keeping TEXT NOT NULL DEFAULT 'everything';
ALTER TABLE destinations ADD COLUMN at_limit TEXT NOT NULL DEFAULT 'stop';
ALTER TABLE destinations ADD COLUMN waiting_days BIGINT NOT NULL DEFAULT 7;

ALTER TABLE accounts ADD COLUMN quota BIGINT;

ALTER TABLE stores ADD COLUMN size_limit BIGINT;
ALTER TABLE stores ADD COLUMN keeping TEXT;
ALTER TABLE stores ADD COLUMN held TEXT;
ALTER TABLE stores ADD COLUMN held_by TEXT;
ALTER TABLE stores ADD COLUMN leaves BIGINT;
ALTER TABLE stores ADD COLUMN leaving_by TEXT;
ALTER TABLE stores ADD COLUMN gone BIGINT;
ALTER TABLE stores ADD COLUMN untidy BOOLEAN NOT NULL DEFAULT FALSE;

ALTER TABLE points ADD COLUMN held TEXT;
ALTER TABLE points ADD COLUMN held_by TEXT;
ALTER TABLE points ADD COLUMN leaves BIGINT;
ALTER TABLE points ADD COLUMN leaving_by TEXT;
ALTER TABLE points ADD COLUMN gone BIGINT;
ALTER TABLE points ADD COLUMN gone_why TEXT;
CREATE INDEX points_leaving ON points (leaves) WHERE leaves IS NOT NULL AND gone IS NULL;

CREATE TABLE jobs (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    id TEXT NOT NULL UNIQUE,
    kind TEXT NOT NULL,
    store_id TEXT NOT NULL REFERENCES stores (id),
    state TEXT NOT NULL,
    done BIGINT NOT NULL,
    total BIGINT NOT NULL,
    by TEXT NOT NULL,
    created BIGINT NOT NULL,
    started BIGINT,
    ended BIGINT,
    outcome TEXT
);
CREATE INDEX jobs_by_store ON jobs (store_id);
CREATE INDEX jobs_unfinished ON jobs (number) WHERE ended IS NULL;

ALTER TABLE installation ADD COLUMN escrow_key BLOB;
ALTER TABLE installation ADD COLUMN escrow_since BIGINT;

ALTER TABLE destinations ADD COLUMN scrub_days BIGINT NOT NULL DEFAULT 30;
ALTER TABLE stores ADD COLUMN scrubbed BIGINT;
ALTER TABLE stores ADD COLUMN scrub_after TEXT;
ALTER TABLE stores ADD COLUMN findings TEXT;
ALTER TABLE stores ADD COLUMN lost_chunks BIGINT NOT NULL DEFAULT 0;
