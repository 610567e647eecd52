-- When the service committed a point, by its own clock. What a workstation says of it decides nothing: of points that a run
-- made, the end of that run is known; no other one is older than it says or younger than now.
ALTER TABLE points RENAME COLUMN created TO committed;
UPDATE points SET committed = min(
    coalesce((SELECT runs.ended FROM runs WHERE runs.number = points.run_number), committed),
    CAST(strftime('%s', 'now') AS INTEGER) * 1000
);

-- How long after its commit nothing makes a point go.
ALTER TABLE destinations ADD COLUMN protected_days BIGINT NOT NULL DEFAULT 30 CHECK (protected_days BETWEEN 0 AND 3650);

-- By what the points of an image store were kept until other terms came in their place. They go on counting for what was
-- there.
CREATE TABLE earlier_terms (
    id INTEGER PRIMARY KEY NOT NULL,
    store_id TEXT NOT NULL REFERENCES stores (id),
    keeping TEXT NOT NULL,
    protected_days BIGINT NOT NULL CHECK (protected_days BETWEEN 0 AND 3650),
    at_limit TEXT NOT NULL CHECK (at_limit IN ('stop', 'let_oldest_go')),
    ended BIGINT NOT NULL
);
CREATE INDEX earlier_terms_by_store ON earlier_terms (store_id);

-- When points last went to make room at a limit, and which.
ALTER TABLE stores ADD COLUMN room_made BIGINT;
ALTER TABLE stores ADD COLUMN room_made_of TEXT;
-- When terms were last made shorter, and how.
ALTER TABLE destinations ADD COLUMN shortened BIGINT;
ALTER TABLE destinations ADD COLUMN shortened_how TEXT;
ALTER TABLE stores ADD COLUMN shortened BIGINT;
ALTER TABLE stores ADD COLUMN shortened_how TEXT;

-- Points that were committed and whose files are not there, when it was last looked.
ALTER TABLE stores ADD COLUMN lost_points BIGINT NOT NULL DEFAULT 0;

-- What was told of what needs attention, where that changes from one time to the next.
ALTER TABLE told ADD COLUMN detail TEXT NOT NULL DEFAULT '';
