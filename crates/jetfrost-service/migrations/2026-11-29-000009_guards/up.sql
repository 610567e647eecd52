-- What no column may hold: a word that is none of its enumeration, half of a value that has several columns, a size or number below
-- zero, a time before 1970 or behind the year 9999. As triggers, since a check cannot be added to a table that is there; they count for every writer, as a check would.

-- What is of before and has only one half is made whole first.
UPDATE accounts SET disabled_by = '' WHERE disabled IS NOT NULL AND disabled_by IS NULL;
UPDATE accounts SET disabled_by = NULL WHERE disabled IS NULL AND disabled_by IS NOT NULL;
UPDATE destinations SET withdrawn_by = '' WHERE withdrawn IS NOT NULL AND withdrawn_by IS NULL;
UPDATE destinations SET withdrawn_by = NULL WHERE withdrawn IS NULL AND withdrawn_by IS NOT NULL;
UPDATE destinations SET shortened_how = '' WHERE shortened IS NOT NULL AND shortened_how IS NULL;
UPDATE destinations SET shortened_how = NULL WHERE shortened IS NULL AND shortened_how IS NOT NULL;
UPDATE points SET held_by = '' WHERE held IS NOT NULL AND held_by IS NULL;
UPDATE points SET held_by = NULL WHERE held IS NULL AND held_by IS NOT NULL;
UPDATE points SET removal_by = '' WHERE removal_ends IS NOT NULL AND removal_by IS NULL;
UPDATE points SET removal_by = NULL WHERE removal_ends IS NULL AND removal_by IS NOT NULL;
UPDATE points SET gone_why = '' WHERE gone IS NOT NULL AND gone_why IS NULL;
UPDATE points SET gone_why = NULL WHERE gone IS NULL AND gone_why IS NOT NULL;
UPDATE stores SET held_by = '' WHERE held IS NOT NULL AND held_by IS NULL;
UPDATE stores SET held_by = NULL WHERE held IS NULL AND held_by IS NOT NULL;
UPDATE stores SET removal_by = '' WHERE removal_ends IS NOT NULL AND removal_by IS NULL;
UPDATE stores SET removal_by = NULL WHERE removal_ends IS NULL AND removal_by IS NOT NULL;
UPDATE stores SET room_made_of = '' WHERE room_made IS NOT NULL AND room_made_of IS NULL;
UPDATE stores SET room_made_of = NULL WHERE room_made IS NULL AND room_made_of IS NOT NULL;
UPDATE stores SET shortened_how = '' WHERE shortened IS NOT NULL AND shortened_how IS NULL;
UPDATE stores SET shortened_how = NULL WHERE shortened IS NULL AND shortened_how IS NOT NULL;
UPDATE workstations SET rest_since = enrolled WHERE rest IS NOT NULL AND rest_since IS NULL;
UPDATE workstations SET rest_since = NULL, rest_by = NULL WHERE rest IS NULL;
UPDATE destinations SET erase_asked = NULL WHERE erases IS NOT NULL;
UPDATE destinations SET erasing_by = '' WHERE erasing_by IS NULL AND (erase_asked IS NOT NULL OR erases IS NOT NULL);
UPDATE destinations SET erasing_by = NULL WHERE erase_asked IS NULL AND erases IS NULL;
UPDATE points SET committed = max(0, min(committed, 253402300799999)) WHERE committed NOT BETWEEN 0 AND 253402300799999;
-- What an earlier version decided or told that this one does not know is decided and told anew.
DELETE FROM dismissed WHERE step NOT IN ('storage', 'people', 'encryption', 'access', 'limits', 'office_key', 'protection', 'second_factor', 'discovery', 'mail', 'maintenance', 'first_machine', 'first_point', 'first_drill');
DELETE FROM told WHERE kind NOT IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'overdue', 'no_first_point');
UPDATE installation SET new_backups = 'on' WHERE new_backups = 'paused' AND paused_until IS NULL;

CREATE TRIGGER accounts_guard_insert BEFORE INSERT ON accounts
    WHEN NOT (
        (NEW.role IN ('administrator', 'helpdesk', 'member'))
        AND (NEW.kind IN ('person', 'machine', 'shared'))
        AND (NEW.disabled IS NULL) = (NEW.disabled_by IS NULL)
        AND coalesce(NEW.quota, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.disabled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.totp_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of accounts would hold what none may'); END;
CREATE TRIGGER accounts_guard_update BEFORE UPDATE ON accounts
    WHEN NOT (
        (NEW.role IN ('administrator', 'helpdesk', 'member'))
        AND (NEW.kind IN ('person', 'machine', 'shared'))
        AND (NEW.disabled IS NULL) = (NEW.disabled_by IS NULL)
        AND coalesce(NEW.quota, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.disabled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.totp_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of accounts would hold what none may'); END;

CREATE TRIGGER destinations_guard_insert BEFORE INSERT ON destinations
    WHEN NOT (
        (NEW.at_limit IN ('stop', 'expire_oldest'))
        AND (NEW.encryption IN ('required', 'optional'))
        AND (NEW.granted_to IN ('everybody', 'chosen'))
        AND (NEW.withdrawn IS NULL) = (NEW.withdrawn_by IS NULL)
        AND (NEW.shortened IS NULL) = (NEW.shortened_how IS NULL)
        AND (NEW.erasing_by IS NULL) = (NEW.erase_asked IS NULL AND NEW.erases IS NULL)
        AND (NEW.erase_asked IS NULL OR NEW.erases IS NULL)
        AND coalesce(NEW.capacity, 0) >= 0
        AND coalesce(NEW.reserve, 0) >= 0
        AND coalesce(NEW.default_limit, 0) >= 0
        AND coalesce(NEW.waiting_days, 0) >= 0
        AND coalesce(NEW.scrub_days, 0) >= 0
        AND coalesce(NEW.protected_days, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.withdrawn, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.missing_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.erases, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.records_backed_up, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.shortened, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of destinations would hold what none may'); END;
CREATE TRIGGER destinations_guard_update BEFORE UPDATE ON destinations
    WHEN NOT (
        (NEW.at_limit IN ('stop', 'expire_oldest'))
        AND (NEW.encryption IN ('required', 'optional'))
        AND (NEW.granted_to IN ('everybody', 'chosen'))
        AND (NEW.withdrawn IS NULL) = (NEW.withdrawn_by IS NULL)
        AND (NEW.shortened IS NULL) = (NEW.shortened_how IS NULL)
        AND (NEW.erasing_by IS NULL) = (NEW.erase_asked IS NULL AND NEW.erases IS NULL)
        AND (NEW.erase_asked IS NULL OR NEW.erases IS NULL)
        AND coalesce(NEW.capacity, 0) >= 0
        AND coalesce(NEW.reserve, 0) >= 0
        AND coalesce(NEW.default_limit, 0) >= 0
        AND coalesce(NEW.waiting_days, 0) >= 0
        AND coalesce(NEW.scrub_days, 0) >= 0
        AND coalesce(NEW.protected_days, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.withdrawn, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.missing_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.erases, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.records_backed_up, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.shortened, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of destinations would hold what none may'); END;

CREATE TRIGGER dismissed_guard_insert BEFORE INSERT ON dismissed
    WHEN NOT (
        (NEW.step IN ('storage', 'people', 'encryption', 'access', 'limits', 'office_key', 'protection', 'second_factor', 'discovery', 'mail', 'maintenance', 'first_machine', 'first_point', 'first_drill'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of dismissed would hold what none may'); END;
CREATE TRIGGER dismissed_guard_update BEFORE UPDATE ON dismissed
    WHEN NOT (
        (NEW.step IN ('storage', 'people', 'encryption', 'access', 'limits', 'office_key', 'protection', 'second_factor', 'discovery', 'mail', 'maintenance', 'first_machine', 'first_point', 'first_drill'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of dismissed would hold what none may'); END;

CREATE TRIGGER enrolment_codes_guard_insert BEFORE INSERT ON enrolment_codes
    WHEN NOT (
        coalesce(NEW.size_limit, 0) >= 0
        AND (NEW.limit_said OR NEW.size_limit IS NULL)
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.expires, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.used, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.cancelled, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of enrolment_codes would hold what none may'); END;
CREATE TRIGGER enrolment_codes_guard_update BEFORE UPDATE ON enrolment_codes
    WHEN NOT (
        coalesce(NEW.size_limit, 0) >= 0
        AND (NEW.limit_said OR NEW.size_limit IS NULL)
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.expires, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.used, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.cancelled, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of enrolment_codes would hold what none may'); END;

CREATE TRIGGER groups_guard_insert BEFORE INSERT ON groups
    WHEN NOT (
        coalesce(NEW.default_limit, 0) >= 0
        AND coalesce(NEW.default_quota, 0) >= 0
    )
    BEGIN SELECT RAISE(ABORT, 'a row of groups would hold what none may'); END;
CREATE TRIGGER groups_guard_update BEFORE UPDATE ON groups
    WHEN NOT (
        coalesce(NEW.default_limit, 0) >= 0
        AND coalesce(NEW.default_quota, 0) >= 0
    )
    BEGIN SELECT RAISE(ABORT, 'a row of groups would hold what none may'); END;

CREATE TRIGGER installation_guard_insert BEFORE INSERT ON installation
    WHEN NOT (
        (NEW.new_backups IN ('on', 'paused', 'off'))
        AND (NEW.units IN ('decimal', 'binary'))
        AND (NEW.new_backups <> 'paused' OR NEW.paused_until IS NOT NULL)
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.paused_until, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.important_change, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.escrow_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of installation would hold what none may'); END;
CREATE TRIGGER installation_guard_update BEFORE UPDATE ON installation
    WHEN NOT (
        (NEW.new_backups IN ('on', 'paused', 'off'))
        AND (NEW.units IN ('decimal', 'binary'))
        AND (NEW.new_backups <> 'paused' OR NEW.paused_until IS NOT NULL)
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.paused_until, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.important_change, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.escrow_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of installation would hold what none may'); END;

CREATE TRIGGER jobs_guard_insert BEFORE INSERT ON jobs
    WHEN NOT (
        (NEW.kind IN ('thinning', 'removal', 'scrub'))
        AND (NEW.state IN ('waiting', 'underway', 'paused', 'done', 'failed', 'cancelled'))
        AND coalesce(NEW.done, 0) >= 0
        AND coalesce(NEW.total, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of jobs would hold what none may'); END;
CREATE TRIGGER jobs_guard_update BEFORE UPDATE ON jobs
    WHEN NOT (
        (NEW.kind IN ('thinning', 'removal', 'scrub'))
        AND (NEW.state IN ('waiting', 'underway', 'paused', 'done', 'failed', 'cancelled'))
        AND coalesce(NEW.done, 0) >= 0
        AND coalesce(NEW.total, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of jobs would hold what none may'); END;

CREATE TRIGGER mail_guard_insert BEFORE INSERT ON mail
    WHEN NOT (
        (NEW.security IN ('tls', 'starttls', 'none'))
        AND coalesce(NEW.delivered, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.trouble_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.summarised, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of mail would hold what none may'); END;
CREATE TRIGGER mail_guard_update BEFORE UPDATE ON mail
    WHEN NOT (
        (NEW.security IN ('tls', 'starttls', 'none'))
        AND coalesce(NEW.delivered, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.trouble_since, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.summarised, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of mail would hold what none may'); END;

CREATE TRIGGER points_guard_insert BEFORE INSERT ON points
    WHEN NOT (
        (NEW.kind IN ('files', 'disk'))
        AND (NEW.held IS NULL) = (NEW.held_by IS NULL)
        AND (NEW.removal_ends IS NULL) = (NEW.removal_by IS NULL)
        AND (NEW.gone IS NULL) = (NEW.gone_why IS NULL)
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

CREATE TRIGGER restores_guard_insert BEFORE INSERT ON restores
    WHEN NOT (
        (NEW.outcome IN ('underway', 'complete', 'complete_with_exceptions', 'failed', 'stopped', 'lost'))
        AND (NEW.purpose IN ('restore', 'drill'))
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
        AND (NEW.purpose IN ('restore', 'drill'))
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

CREATE TRIGGER runs_guard_insert BEFORE INSERT ON runs
    WHEN NOT (
        (NEW.outcome IN ('underway', 'complete', 'complete_with_exceptions', 'failed', 'stopped', 'lost'))
        AND (NEW.phase IN ('counting', 'sending', 'sealing', 'comparing'))
        AND coalesce(NEW.files_done, 0) >= 0
        AND coalesce(NEW.files_total, 0) >= 0
        AND coalesce(NEW.bytes_done, 0) >= 0
        AND coalesce(NEW.bytes_total, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.changed_while_read, 0) >= 0
        AND coalesce(NEW.unreadable, 0) >= 0
        AND coalesce(NEW.disappeared, 0) >= 0
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_heard, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of runs would hold what none may'); END;
CREATE TRIGGER runs_guard_update BEFORE UPDATE ON runs
    WHEN NOT (
        (NEW.outcome IN ('underway', 'complete', 'complete_with_exceptions', 'failed', 'stopped', 'lost'))
        AND (NEW.phase IN ('counting', 'sending', 'sealing', 'comparing'))
        AND coalesce(NEW.files_done, 0) >= 0
        AND coalesce(NEW.files_total, 0) >= 0
        AND coalesce(NEW.bytes_done, 0) >= 0
        AND coalesce(NEW.bytes_total, 0) >= 0
        AND coalesce(NEW.sent, 0) >= 0
        AND coalesce(NEW.sequence, 0) >= 0
        AND coalesce(NEW.changed_while_read, 0) >= 0
        AND coalesce(NEW.unreadable, 0) >= 0
        AND coalesce(NEW.disappeared, 0) >= 0
        AND coalesce(NEW.started, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_heard, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.ended, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of runs would hold what none may'); END;

CREATE TRIGGER sessions_guard_insert BEFORE INSERT ON sessions
    WHEN NOT (
        (NEW.carry IN ('cookie', 'token'))
        AND (NEW.scope IN ('all', 'see'))
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_used, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.expires, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of sessions would hold what none may'); END;
CREATE TRIGGER sessions_guard_update BEFORE UPDATE ON sessions
    WHEN NOT (
        (NEW.carry IN ('cookie', 'token'))
        AND (NEW.scope IN ('all', 'see'))
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_used, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.expires, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of sessions would hold what none may'); END;

CREATE TRIGGER stores_guard_insert BEFORE INSERT ON stores
    WHEN NOT (
        (NEW.held IS NULL) = (NEW.held_by IS NULL)
        AND (NEW.removal_ends IS NULL) = (NEW.removal_by IS NULL)
        AND (NEW.room_made IS NULL) = (NEW.room_made_of IS NULL)
        AND (NEW.shortened IS NULL) = (NEW.shortened_how IS NULL)
        AND coalesce(NEW.points, 0) >= 0
        AND coalesce(NEW.latest_sequence, 0) >= 0
        AND coalesce(NEW.size_limit, 0) >= 0
        AND coalesce(NEW.lost_chunks, 0) >= 0
        AND coalesce(NEW.drilled_point, 0) >= 0
        AND coalesce(NEW.lost_points, 0) >= 0
        AND coalesce(NEW.occupied, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removal_ends, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.scrubbed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.drilled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.drill_failed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.room_made, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.shortened, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of stores would hold what none may'); END;
CREATE TRIGGER stores_guard_update BEFORE UPDATE ON stores
    WHEN NOT (
        (NEW.held IS NULL) = (NEW.held_by IS NULL)
        AND (NEW.removal_ends IS NULL) = (NEW.removal_by IS NULL)
        AND (NEW.room_made IS NULL) = (NEW.room_made_of IS NULL)
        AND (NEW.shortened IS NULL) = (NEW.shortened_how IS NULL)
        AND coalesce(NEW.points, 0) >= 0
        AND coalesce(NEW.latest_sequence, 0) >= 0
        AND coalesce(NEW.size_limit, 0) >= 0
        AND coalesce(NEW.lost_chunks, 0) >= 0
        AND coalesce(NEW.drilled_point, 0) >= 0
        AND coalesce(NEW.lost_points, 0) >= 0
        AND coalesce(NEW.occupied, 0) >= 0
        AND coalesce(NEW.created, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.removal_ends, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.gone, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.scrubbed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.drilled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.drill_failed, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.room_made, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.shortened, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of stores would hold what none may'); END;

CREATE TRIGGER told_guard_insert BEFORE INSERT ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'overdue', 'no_first_point'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;
CREATE TRIGGER told_guard_update BEFORE UPDATE ON told
    WHEN NOT (
        (NEW.kind IN ('audit_altered', 'damage', 'destination_missing', 'destination_full', 'room_made', 'terms_shortened', 'drill_failed', 'records_not_backed_up', 'certificate', 'failing', 'overdue', 'no_first_point'))
        AND coalesce(NEW.at, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of told would hold what none may'); END;

CREATE TRIGGER workstations_guard_insert BEFORE INSERT ON workstations
    WHEN NOT (
        (NEW.rest IS NULL OR NEW.rest IN ('retired', 'unclaimed'))
        AND (NEW.rest IS NULL) = (NEW.rest_since IS NULL)
        AND (NEW.rest_by IS NULL OR NEW.rest IS NOT NULL)
        AND coalesce(NEW.disk_bytes, 0) >= 0
        AND coalesce(NEW.rhythm_seconds, 0) >= 0
        AND coalesce(NEW.enrolled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_seen, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.rest_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of workstations would hold what none may'); END;
CREATE TRIGGER workstations_guard_update BEFORE UPDATE ON workstations
    WHEN NOT (
        (NEW.rest IS NULL OR NEW.rest IN ('retired', 'unclaimed'))
        AND (NEW.rest IS NULL) = (NEW.rest_since IS NULL)
        AND (NEW.rest_by IS NULL OR NEW.rest IS NOT NULL)
        AND coalesce(NEW.disk_bytes, 0) >= 0
        AND coalesce(NEW.rhythm_seconds, 0) >= 0
        AND coalesce(NEW.enrolled, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.last_seen, 0) BETWEEN 0 AND 253402300799999
        AND coalesce(NEW.rest_since, 0) BETWEEN 0 AND 253402300799999
    )
    BEGIN SELECT RAISE(ABORT, 'a row of workstations would hold what none may'); END;
