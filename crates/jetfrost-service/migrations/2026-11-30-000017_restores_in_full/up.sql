-- From where somebody began a restore, where to, and who cancelled it. Points can be browsed in the console.
ALTER TABLE restores ADD COLUMN origin TEXT;
ALTER TABLE restores ADD COLUMN target TEXT;
ALTER TABLE restores ADD COLUMN cancelled_by TEXT;

DROP TRIGGER restores_guard_insert;
DROP TRIGGER restores_guard_update;
CREATE TRIGGER restores_guard_insert BEFORE INSERT ON restores
    WHEN NOT (
        (NEW.outcome IN ('underway', 'complete', 'complete_with_exceptions', 'failed', 'stopped', 'lost'))
        AND (NEW.purpose IN ('restore', 'drill', 'attach', 'mount', 'export', 'browse'))
        AND (NEW.target IS NULL OR NEW.target IN ('original', 'beside', 'elsewhere', 'device'))
        AND (NEW.scope IN ('everything', 'selection'))
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.files_done, 0) >= 0
        AND coalesce(NEW.files_total, 0) >= 0
        AND coalesce(NEW.bytes_done, 0) >= 0
        AND coalesce(NEW.bytes_total, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.exceptions, 0) >= 0
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_heard, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of restores would hold what none may'); END;
CREATE TRIGGER restores_guard_update BEFORE UPDATE ON restores
    WHEN NOT (
        (NEW.outcome IN ('underway', 'complete', 'complete_with_exceptions', 'failed', 'stopped', 'lost'))
        AND (NEW.purpose IN ('restore', 'drill', 'attach', 'mount', 'export', 'browse'))
        AND (NEW.target IS NULL OR NEW.target IN ('original', 'beside', 'elsewhere', 'device'))
        AND (NEW.scope IN ('everything', 'selection'))
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.files_done, 0) >= 0
        AND coalesce(NEW.files_total, 0) >= 0
        AND coalesce(NEW.bytes_done, 0) >= 0
        AND coalesce(NEW.bytes_total, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.exceptions, 0) >= 0
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_heard, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of restores would hold what none may'); END;
