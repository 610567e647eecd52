-- Schedules that the office sets for destinations, groups and workstations, as JSON; what an administrator asks of a workstation; how
-- many of its runs failed in a row; and what kept its backups waiting.
DROP TRIGGER workstations_guard_insert;
DROP TRIGGER workstations_guard_update;
ALTER TABLE destinations ADD COLUMN schedule TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(schedule));
ALTER TABLE groups ADD COLUMN schedule TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(schedule));
ALTER TABLE workstations ADD COLUMN schedule TEXT NOT NULL DEFAULT '{}';
UPDATE workstations SET schedule = json_object('rhythm_seconds', max(900, min(rhythm_seconds, 2678400)))
    WHERE rhythm_seconds NOT IN (0, 3600);
ALTER TABLE workstations DROP COLUMN rhythm_seconds;
ALTER TABLE workstations ADD COLUMN failures BIGINT NOT NULL DEFAULT 0;
-- When an administrator asked for a backup that has not begun yet.
ALTER TABLE workstations ADD COLUMN asked BIGINT;
ALTER TABLE workstations ADD COLUMN asked_by TEXT;
-- Until when an administrator paused it.
ALTER TABLE workstations ADD COLUMN paused_until BIGINT;
ALTER TABLE workstations ADD COLUMN paused_by TEXT;
CREATE TRIGGER workstations_guard_insert BEFORE INSERT ON workstations
    WHEN NOT (
        (NEW.rest IS NULL OR NEW.rest IN ('retired', 'unclaimed'))
        AND (NEW.rest IS NULL) = (NEW.rest_since IS NULL)
        AND (NEW.rest_by IS NULL OR NEW.rest IS NOT NULL)
        AND (NEW.asked IS NULL) = (NEW.asked_by IS NULL)
        AND (NEW.paused_until IS NULL) = (NEW.paused_by IS NULL)
        AND json_valid(NEW.schedule)
        AND NEW.failures >= 0
        AND coalesce(NEW.disk_bytes, 0) >= 0
        AND coalesce(NEW.enrolled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_seen, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.rest_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.asked, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.paused_until, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of workstations would hold what none may'); END;
CREATE TRIGGER workstations_guard_update BEFORE UPDATE ON workstations
    WHEN NOT (
        (NEW.rest IS NULL OR NEW.rest IN ('retired', 'unclaimed'))
        AND (NEW.rest IS NULL) = (NEW.rest_since IS NULL)
        AND (NEW.rest_by IS NULL OR NEW.rest IS NOT NULL)
        AND (NEW.asked IS NULL) = (NEW.asked_by IS NULL)
        AND (NEW.paused_until IS NULL) = (NEW.paused_by IS NULL)
        AND json_valid(NEW.schedule)
        AND NEW.failures >= 0
        AND coalesce(NEW.disk_bytes, 0) >= 0
        AND coalesce(NEW.enrolled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_seen, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.rest_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.asked, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.paused_until, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of workstations would hold what none may'); END;

-- What of its runs failed in a row is not known of before: the latest one counts.
UPDATE workstations SET failures = 1
    WHERE EXISTS (SELECT 1 FROM runs WHERE runs.number = workstations.latest_run AND runs.outcome IN ('failed', 'lost'));

DROP TRIGGER told_guard_insert;
DROP TRIGGER told_guard_update;
CREATE TRIGGER told_guard_insert BEFORE INSERT ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'no_first_point'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
CREATE TRIGGER told_guard_update BEFORE UPDATE ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'no_first_point'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;

-- How many runs go on at once; none for what was measured.
ALTER TABLE installation ADD COLUMN runs_at_once BIGINT CHECK (runs_at_once BETWEEN 1 AND 1000);

-- The agents' table again, for the reasons that came since. A check cannot be changed.
ALTER TABLE agents RENAME TO agents_before;
CREATE TABLE agents (
    workstation_id TEXT NOT NULL PRIMARY KEY REFERENCES workstations (id),
    seen BIGINT NOT NULL CHECK (seen BETWEEN 0 AND 253402300799999),
    due BIGINT CHECK (due BETWEEN 0 AND 253402300799999),
    delay TEXT CHECK (delay IN ('paused', 'paused_by_office', 'clock_implausible', 'another_run', 'outside_hours', 'on_battery', 'office_unreachable', 'backups_paused', 'queued', 'limit_reached', 'destination_unavailable', 'passphrase_needed', 'source_missing')),
    delayed BIGINT CHECK (delayed BETWEEN 0 AND 253402300799999),
    -- Failures in a row as the agent counts them: it also knows of those that never began a run.
    failures BIGINT NOT NULL DEFAULT 0 CHECK (failures >= 0),
    CHECK ((delay IS NULL) = (delayed IS NULL))
);
INSERT INTO agents (workstation_id, seen, due, delay, delayed) SELECT workstation_id, seen, due, delay, delayed FROM agents_before;
DROP TABLE agents_before;

-- What kept backups waiting, and is over.
CREATE TABLE waits (
    number INTEGER PRIMARY KEY,
    workstation_id TEXT NOT NULL REFERENCES workstations (id),
    reason TEXT NOT NULL CHECK (reason IN ('paused', 'paused_by_office', 'clock_implausible', 'another_run', 'outside_hours', 'on_battery', 'office_unreachable', 'backups_paused', 'queued', 'limit_reached', 'destination_unavailable', 'passphrase_needed', 'source_missing')),
    since BIGINT NOT NULL CHECK (since BETWEEN 0 AND 253402300799999),
    until BIGINT NOT NULL CHECK (until BETWEEN 0 AND 253402300799999 AND until >= since),
    UNIQUE (workstation_id, since, reason)
);
