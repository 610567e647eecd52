-- Drills: restores that are rehearsals, and when an image store last passed or failed one.
ALTER TABLE restores ADD COLUMN purpose TEXT NOT NULL DEFAULT 'bring_back';
ALTER TABLE stores ADD COLUMN drilled BIGINT;
ALTER TABLE stores ADD COLUMN drilled_point BIGINT;
-- When the latest drill did not bring everything back; none once one does.
ALTER TABLE stores ADD COLUMN drill_failed BIGINT;

-- Where the service sends what needs somebody's attention. One row, or none while no mail is set up.
CREATE TABLE mail (
    id INTEGER PRIMARY KEY NOT NULL CHECK (id = 1),
    server TEXT NOT NULL,
    port INTEGER NOT NULL,
    security TEXT NOT NULL,
    login TEXT,
    password TEXT,
    sender TEXT NOT NULL,
    -- Addresses, one a line.
    recipients TEXT NOT NULL,
    -- The hour of the day at which a summary goes out; none for no summary.
    summary_hour INTEGER,
    -- When the mail server last took a message.
    delivered BIGINT,
    -- What it said instead, and since when.
    trouble TEXT,
    trouble_since BIGINT,
    -- When the last summary was sent.
    summarised BIGINT
);

-- What needs attention and was told by mail: told once, and once more when it is over.
CREATE TABLE told (
    kind TEXT NOT NULL,
    subject TEXT NOT NULL,
    at BIGINT NOT NULL,
    PRIMARY KEY (kind, subject)
);
