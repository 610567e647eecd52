-- How a point differs from the one before, what that looks like, and what a person found out about it. Two more alerts.
ALTER TABLE points ADD COLUMN changes TEXT;
ALTER TABLE points ADD COLUMN suspicion TEXT;
ALTER TABLE points ADD COLUMN mark TEXT;
ALTER TABLE points ADD COLUMN mark_reason TEXT;
ALTER TABLE points ADD COLUMN mark_by TEXT;
ALTER TABLE points ADD COLUMN marked BIGINT;
-- The points behind which all older ones stay.
CREATE INDEX points_suspect ON points (store_id, sequence)
    WHERE gone IS NULL AND (mark = 'suspect' OR (mark IS NULL AND suspicion IS NOT NULL));

DROP TRIGGER points_guard_insert;
DROP TRIGGER points_guard_update;
CREATE TRIGGER points_guard_insert BEFORE INSERT ON points
    WHEN NOT (
        (NEW.kind IN ('files', 'disk'))
        AND (NEW.held IS NULL) = (NEW.held_by IS NULL)
        AND (NEW.removal_ends IS NULL) = (NEW.removal_by IS NULL)
        AND (NEW.gone IS NULL) = (NEW.gone_why IS NULL)
        AND (NEW.suspicion IS NULL OR NEW.suspicion IN ('scrambled', 'deleted', 'replaced'))
        AND (NEW.mark IS NULL OR NEW.mark IN ('good', 'suspect', 'resolved'))
        AND (NEW.mark IS NULL) = (NEW.mark_reason IS NULL)
        AND (NEW.mark IS NULL) = (NEW.mark_by IS NULL)
        AND (NEW.mark IS NULL) = (NEW.marked IS NULL)
        AND coalesce(NEW.marked, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.files, 0) >= 0
        AND coalesce(NEW.bytes, 0) >= 0
        AND coalesce(NEW.exceptions, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.committed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removal_ends, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of points would hold what none may'); END;
CREATE TRIGGER points_guard_update BEFORE UPDATE ON points
    WHEN NOT (
        (NEW.kind IN ('files', 'disk'))
        AND (NEW.held IS NULL) = (NEW.held_by IS NULL)
        AND (NEW.removal_ends IS NULL) = (NEW.removal_by IS NULL)
        AND (NEW.gone IS NULL) = (NEW.gone_why IS NULL)
        AND (NEW.suspicion IS NULL OR NEW.suspicion IN ('scrambled', 'deleted', 'replaced'))
        AND (NEW.mark IS NULL OR NEW.mark IN ('good', 'suspect', 'resolved'))
        AND (NEW.mark IS NULL) = (NEW.mark_reason IS NULL)
        AND (NEW.mark IS NULL) = (NEW.mark_by IS NULL)
        AND (NEW.mark IS NULL) = (NEW.marked IS NULL)
        AND coalesce(NEW.marked, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.files, 0) >= 0
        AND coalesce(NEW.bytes, 0) >= 0
        AND coalesce(NEW.exceptions, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.committed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removal_ends, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of points would hold what none may'); END;

DROP TRIGGER told_guard_insert;
DROP TRIGGER told_guard_update;
CREATE TRIGGER told_guard_insert BEFORE INSERT ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'suspect_point', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'drill_overdue', 'no_first_point', 'proof_due'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
CREATE TRIGGER told_guard_update BEFORE UPDATE ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'suspect_point', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'kept_waiting', 'overdue', 'drill_overdue', 'no_first_point', 'proof_due'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
