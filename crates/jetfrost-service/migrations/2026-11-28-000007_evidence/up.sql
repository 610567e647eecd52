-- A point is marked before its files are removed: one that is not there and was not marked is lost, and did not expire.
ALTER TABLE points ADD COLUMN going BOOLEAN NOT NULL DEFAULT FALSE;
-- Whether it was lost when it was last looked.
ALTER TABLE points ADD COLUMN lost BOOLEAN NOT NULL DEFAULT FALSE;

-- The key slots of each image store as they were added, so that one that is damaged or gone is noticed, and written again.
CREATE TABLE slots (
    store_id TEXT NOT NULL REFERENCES stores (id),
    id TEXT NOT NULL,
    bytes BLOB NOT NULL,
    PRIMARY KEY (store_id, id)
);
-- Whether those of an image store that was there before this, or that was adopted, were taken over from its disk.
ALTER TABLE stores ADD COLUMN slots_noted BOOLEAN NOT NULL DEFAULT FALSE;

-- What an image store occupied when it was last looked: it counts so much while its destination is missing.
ALTER TABLE stores ADD COLUMN occupied BIGINT NOT NULL DEFAULT 0;
