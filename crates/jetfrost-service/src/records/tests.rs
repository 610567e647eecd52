//! What the records promise of every version before this one, and what no row may hold.

use jetfrost_types::{
    AlertKind, DelayReason, ImageStoreId, Label, PointKind, PointMark, RestoreId, RestoreOrderId, Role, SetBy, Step, Suspicion,
    TimeOfDay,
};
use jetfrost_wire::alerts::MailSecurity;
use jetfrost_wire::destination::EncryptionPolicy;
use jetfrost_wire::job::{JobKind, JobState};
use jetfrost_wire::people::AccountKind;
use jetfrost_wire::restore::{CheckState, CheckedItem, CheckedOff, Purpose, Scope};
use jetfrost_wire::retention::AtLimit;
use jetfrost_wire::run::{Outcome, Phase};
use jetfrost_wire::service::{Carry, TokenScope};
use jetfrost_wire::size::Units;
use jetfrost_wire::workstation::ProvedWith;

use super::*;
use crate::clock::Moment;

/// What the first version wrote: one of everything that later migrations change.
const FIRST: &str = "
    INSERT INTO installation VALUES ('i', 1, NULL);
    INSERT INTO accounts VALUES ('a', 'anna', 'anna', 'Anna', 'member', NULL, 1);
    INSERT INTO destinations VALUES ('d', 'Shelf', 'shelf', '/shelf', 1000, 10, 1);
    INSERT INTO workstations VALUES ('w', 'knot', 'knot', 'a', x'01', 'Linux', '0', NULL, 3600, 1, NULL, NULL);
    INSERT INTO stores VALUES ('s', 'w', 'd', 1, 1, 1);
    INSERT INTO points VALUES ('s', 1, NULL, 'files', 5, 2, 3, 0, 4);
    INSERT INTO sessions VALUES ('e', x'02', 'a', 'token', 'console', 1, 1, 9);
    INSERT INTO audit (at, who, origin, what, subject) VALUES (1, 'anna', '10.0.0.1', 'signed in', 'console');";
/// What the second version added to that.
const SECOND: &str = "
    UPDATE destinations SET keeping = '30 days', waiting_days = 14, scrub_days = 5;
    UPDATE accounts SET quota = 700;
    UPDATE installation SET escrow_key = x'03', escrow_since = 2;
    UPDATE stores SET size_limit = 500, held = 'a dispute', held_by = 'ingrid';";

/// What the third version added to that.
const THIRD: &str = "
    INSERT INTO enrolment_codes (id, secret_hash, account_id, destination_id, created, expires) VALUES ('c', x'04', 'a', 'd', 1, 9);
    UPDATE destinations SET openness = 'chosen', default_limit = 300;
    UPDATE installation SET accepting = 'off';";

/// What the fourth version added to that.
const FOURTH: &str = "
    UPDATE installation SET announcing = FALSE, units = 'binary';
    INSERT INTO restores (number, id, workstation_id, sequence, scope, by, outcome, files_done, bytes_done, sent, exceptions, started, last_heard)
        VALUES (1, 'r', 'w', 1, 'everything', 'anna', 'complete', 2, 3, 4, 0, 5, 6);";

/// What the fifth version added to that: points with forged times, one by a run and one that came by adoption.
const FIFTH: &str = "
    INSERT INTO runs (number, id, workstation_id, outcome, phase, files_done, bytes_done, sent, started, last_heard, ended, changed_while_read, unreadable, disappeared)
        VALUES (3, 'n', 'w', 'complete', 'sealing', 1, 1, 1, 70, 80, 80, 0, 0, 0);
    INSERT INTO points (store_id, sequence, run_number, kind, created, files, bytes, exceptions, sent) VALUES
        ('s', 2, 3, 'files', 4102444800000, 2, 3, 0, 4), ('s', 3, NULL, 'files', 4102444800000, 2, 3, 0, 4);
    INSERT INTO told VALUES ('overdue', 'knot', 4);";

/// What the sixth version added to that: a store at a limit, and terms that were changed.
const SIXTH: &str = "
    INSERT INTO earlier_terms (store_id, keeping, protected_days, at_limit, ended) VALUES ('s', 'everything', 30, 'let_oldest_go', 90);
    UPDATE stores SET lost_points = 1, room_made = 7, room_made_of = 'knot: 1 point';";

/// What the seventh version added to that: one of each word that is another since.
const SEVENTH: &str = "
    UPDATE destinations SET at_limit = 'let_oldest_go', records_copied = 11, records_trouble = 'no room';
    UPDATE stores SET keeping = '9 days', leaves = 12, leaving_by = 'ingrid';
    UPDATE points SET leaves = 13, leaving_by = 'anna' WHERE sequence = 1;
    INSERT INTO settled VALUES ('admission', 'not yet', 'ingrid', 14);
    INSERT INTO told (kind, subject, at) VALUES ('records_unprotected', '', 15);";

/// What the eighth and ninth version added to that: nothing.
const EIGHTH: &str = "";
const NINTH: &str = "";

/// What the tenth version added to that: a rhythm of its own, a run that failed, and what an agent said.
const TENTH: &str = "
    INSERT INTO runs (number, id, workstation_id, outcome, phase, files_done, bytes_done, sent, started, last_heard, ended, changed_while_read, unreadable, disappeared)
        VALUES (4, 'f', 'w', 'failed', 'sending', 1, 1, 1, 90, 95, 95, 0, 0, 0);
    UPDATE workstations SET rhythm_seconds = 7200, latest_run = 4;
    INSERT INTO agents (workstation_id, seen, delay, delayed) VALUES ('w', 96, 'on_battery', 94);";

/// What the eleventh version added to that: an alert that was told, a schedule, and what kept a backup waiting.
const ELEVENTH: &str = "
    INSERT INTO told (kind, subject, at) VALUES ('no_first_point', 'knot', 97);
    UPDATE destinations SET schedule = '{\"drill_days\":30}';
    INSERT INTO waits (workstation_id, reason, since, until) VALUES ('w', 'on_battery', 94, 98);";

/// What the twelfth version added to that: a proof, and a cap.
const TWELFTH: &str = "
    INSERT INTO proofs (store_id, at, secret) VALUES ('s', 99, 'recovery_key');
    UPDATE installation SET runs_at_once = 3;";

/// What the thirteenth version added to that: people may enrol their own machines, and an agent failed twice.
const THIRTEENTH: &str = "
    UPDATE installation SET own_machines = 1;
    UPDATE agents SET failures = 2;";

/// What the fourteenth version added to that: a backup waits for what a person has to end.
const FOURTEENTH: &str = "
    UPDATE agents SET delay = 'limit_reached';";

/// What the fifteenth version added to that: what was restored by mounting.
const FIFTEENTH: &str = "
    UPDATE restores SET purpose = 'mount';";

/// What the sixteenth version added to that: a point that looked like mass deletion.
const SIXTEENTH: &str = "
    UPDATE points SET suspicion = 'deleted' WHERE sequence = 2;";

const SEVENTEENTH: &str = "
    UPDATE restores SET target = 'beside', origin = '10.0.1.9';";

const EIGHTEENTH: &str = "
    INSERT INTO orders (id, workstation_id, by, origin, state, created, expires, restore_id, sealed)
        SELECT 'o', workstation_id, 'ingrid', '10.0.1.9', 'underway', 1, 2, 'r', x'00' FROM restores WHERE id = 'r';";

fn brought_up_to_date(versions: &[&str]) -> (tempfile::TempDir, Records) {
    let directory = tempfile::tempdir().expect("a directory");
    let path = directory.path().join("records.sqlite");
    let mut on = SqliteConnection::establish(path.to_str().expect("text")).expect("opens");
    for version in versions {
        on.run_next_migration(MIGRATIONS).expect("a migration");
        on.batch_execute(version).expect("what was");
    }
    drop(on);
    let records = Records::open(&path).expect("brought up to date");
    (directory, records)
}

fn store() -> ImageStoreId {
    ImageStoreId("s".into())
}

fn line(records: &Records) -> WorkstationLine {
    records.read(|on| Ok::<_, RecordsError>(WorkstationLine::by_store(&store(), on)?)).expect("readable").expect("there")
}

#[test]
fn a_word_that_no_column_may_hold_is_an_error_that_names_it() {
    let (_directory, records) = brought_up_to_date(&[FIRST]);
    without_guards(&records);
    for (forged, column, said) in [
        ("UPDATE accounts SET role = 'emperor'", "role", "'emperor'"),
        ("UPDATE stores SET retention = 'a while'", "retention", "a while"),
        ("UPDATE stores SET size_limit = -1", "size_limit", "-1"),
        ("UPDATE destinations SET protected_days = -3", "protected_days", "out of range"),
        ("UPDATE stores SET held = 'a dispute'", "stores held held_by", "half of a value"),
        ("UPDATE destinations SET erases = 5", "erases", "half of a value"),
        ("UPDATE stores SET created = -1", "created", "no moment"),
        ("UPDATE stores SET scrubbed = 253402300800000", "scrubbed", "no moment"),
        ("UPDATE workstations SET rest = 'asleep', rest_since = 1", "rest", "'asleep'"),
        ("UPDATE workstations SET schedule = '{\"rhythm_seconds\": 1}'", "schedule", "15 minutes"),
        ("UPDATE destinations SET schedule = '{\"often\": true}'", "schedule", "often"),
    ] {
        let read = records.write(|on| {
            on.batch_execute("PRAGMA ignore_check_constraints = TRUE")?;
            on.batch_execute(forged)?;
            let read = WorkstationLine::by_store(&store(), on);
            on.batch_execute("PRAGMA ignore_check_constraints = FALSE")?;
            Ok::<_, RecordsError>(read?)
        });
        let error = read.expect_err(forged).to_string();
        assert!(error.contains(column) && error.contains(said), "{forged}: {error}");
    }
}

/// As if something else than this program had written the file.
fn without_guards(records: &Records) {
    records
        .write(|on| {
            for table in ["accounts", "stores", "destinations", "workstations"] {
                on.batch_execute(&format!("DROP TRIGGER {table}_guard_update"))?;
            }
            Ok::<_, RecordsError>(())
        })
        .expect("dropped");
}

#[test]
fn what_no_row_may_hold_is_not_written_by_anybody() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH]);
    for forged in [
        "UPDATE accounts SET role = 'emperor'",
        "UPDATE accounts SET disabled = 5",
        "UPDATE destinations SET granted_to = 'all'",
        "UPDATE destinations SET withdrawn_by = 'ingrid'",
        "UPDATE destinations SET erases = 5",
        "UPDATE destinations SET erase_asked = 'x', erases = 5, erasing_by = 'ingrid'",
        "UPDATE dismissed SET step = 'everything'",
        "UPDATE enrolment_codes SET size_limit = 5",
        "UPDATE installation SET new_backups = 'paused'",
        "UPDATE points SET removal_by = NULL WHERE sequence = 1",
        "UPDATE points SET bytes = -1",
        "UPDATE points SET suspicion = 'odd'",
        "UPDATE points SET mark = 'good'",
        "UPDATE points SET committed = -1",
        "UPDATE workstations SET last_seen = 253402300800000",
        "UPDATE restores SET purpose = 'bring_back'",
        "UPDATE runs SET outcome = 'fine'",
        "UPDATE sessions SET scope = 'some'",
        "UPDATE stores SET held_by = NULL",
        "UPDATE stores SET size_limit = -1",
        "UPDATE told SET kind = 'weather'",
        "UPDATE workstations SET rest = 'retired'",
        "UPDATE workstations SET rest_by = 'ingrid'",
        "UPDATE workstations SET asked = 5",
        "UPDATE workstations SET paused_by = 'ingrid'",
        "UPDATE workstations SET failures = -1",
        "UPDATE workstations SET schedule = 'hourly'",
        "INSERT INTO jobs (id, kind, store_id, state, done, total, by, created) VALUES ('j', 'tidy', 's', 'waiting', 0, 0, '', 1)",
        "INSERT INTO mail (id, server, port, security, sender, recipients) VALUES (1, 'm', 25, 'some', 's', 'r')",
    ] {
        let written = records.write(|on| Ok::<_, RecordsError>(on.batch_execute(forged)?));
        let error = written.expect_err(forged).to_string();
        assert!(error.contains("would hold what none may"), "{forged}: {error}");
    }
}

/// A word that the program knows and the schema does not could be read and not be written.
#[test]
fn the_guards_know_every_word_that_the_program_writes() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH]);
    fn words<T: Label>(all: &[T]) -> Vec<&'static str> {
        all.iter().map(|value| value.word()).collect()
    }
    for (table, column, words) in [
        ("accounts", "role", words(Role::ALL)),
        ("accounts", "kind", words(AccountKind::ALL)),
        ("destinations", "at_limit", words(AtLimit::ALL)),
        ("destinations", "encryption", words(EncryptionPolicy::ALL)),
        ("destinations", "granted_to", words(GrantScope::ALL)),
        ("dismissed", "step", words(Step::ALL)),
        ("installation", "new_backups", words(&[Accepting::On, Accepting::Off])),
        ("installation", "units", words(Units::ALL)),
        ("points", "kind", words(PointKind::ALL)),
        ("points", "suspicion", words(Suspicion::ALL)),
        ("restores", "outcome", words(Outcome::ALL)),
        ("restores", "purpose", words(Purpose::ALL)),
        ("restores", "scope", words(Scope::ALL)),
        ("runs", "outcome", words(Outcome::ALL)),
        ("runs", "phase", words(Phase::ALL)),
        ("sessions", "carry", words(Carry::ALL)),
        ("sessions", "scope", words(TokenScope::ALL)),
    ] {
        for word in words {
            let set = format!("UPDATE {table} SET {column} = '{word}'");
            records.write(|on| Ok::<_, RecordsError>(on.batch_execute(&set)?)).expect(&set);
        }
    }
    for mark in PointMark::ALL {
        let set = format!("UPDATE points SET mark = '{}', mark_reason = 'r', mark_by = 'b', marked = 1", mark.word());
        records.write(|on| Ok::<_, RecordsError>(on.batch_execute(&set)?)).expect(&set);
    }
    let insert = |on: &mut Connection, what: &str| Ok::<_, RecordsError>(on.batch_execute(what)?);
    for (kind, state) in
        JobKind::ALL.iter().zip(JobState::ALL.iter().cycle()).chain(JobKind::ALL.iter().cycle().zip(JobState::ALL))
    {
        let (kind, state) = (kind.word(), state.word());
        let row = format!(
            "INSERT INTO jobs (id, kind, store_id, state, done, total, by, created) VALUES (hex(randomblob(8)), '{kind}', 's', '{state}', 0, 0, '', 1)"
        );
        records.write(|on| insert(on, &row)).expect(&row);
    }
    for kind in AlertKind::ALL {
        let row = format!("INSERT OR REPLACE INTO told (kind, subject, at) VALUES ('{}', 'x', 1)", kind.word());
        records.write(|on| insert(on, &row)).expect(&row);
    }
    for reason in DelayReason::ALL {
        let row = format!(
            "INSERT OR REPLACE INTO agents (workstation_id, seen, delay, delayed) SELECT id, 1, '{}', 1 FROM workstations",
            reason.word()
        );
        records.write(|on| insert(on, &row)).expect(&row);
    }
    for reason in DelayReason::ALL {
        let row = format!(
            "INSERT INTO waits (workstation_id, reason, since, until) SELECT id, '{}', 1, 2 FROM workstations",
            reason.word()
        );
        records.write(|on| insert(on, &row)).expect(&row);
    }
    for ended in Ended::ALL {
        let row = format!(
            "INSERT INTO former_credentials (hash, workstation_id, ended, at) SELECT randomblob(8), id, '{}', 1 FROM workstations",
            ended.word()
        );
        records.write(|on| insert(on, &row)).expect(&row);
    }
    for secret in ProvedWith::ALL {
        let row = format!("INSERT OR REPLACE INTO proofs (store_id, at, secret) VALUES ('s', 1, '{}')", secret.word());
        records.write(|on| insert(on, &row)).expect(&row);
    }
    let half = "UPDATE agents SET delayed = NULL";
    assert!(records.write(|on| insert(on, half)).is_err(), "half of a value");
    for security in MailSecurity::ALL {
        let row = format!(
            "INSERT OR REPLACE INTO mail (id, server, port, security, sender, recipients) VALUES (1, 'm', 25, '{}', 's', 'r')",
            security.word()
        );
        records.write(|on| insert(on, &row)).expect(&row);
    }
}

#[test]
fn records_of_the_first_version_are_brought_up_to_date_and_lose_nothing() {
    let (_directory, records) = brought_up_to_date(&[FIRST]);
    let line = line(&records);
    assert_eq!((line.workstation.name.as_str(), line.account.login.as_str()), ("knot", "anna"));
    assert_eq!((line.destination.retention.0.to_string().as_str(), line.destination.at_limit.0.word()), ("everything", "stop"));
    assert_eq!((line.destination.capacity, line.destination.waiting_days), (Count::new(1000), Days(7)));
    assert_eq!((line.store.size_limit, line.store.gone, line.account.quota), (None, None, None));
    let point = line.latest_point.expect("its point is there");
    assert_eq!((point.sequence.get(), point.sent.get(), point.hold.0, point.removal.0), (1, 4, None, None));
}

#[test]
fn records_of_the_tenth_version_keep_rhythms_and_what_agents_said_and_know_of_the_last_failure() {
    let before = [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH];
    let (_directory, records) = brought_up_to_date(&before);
    let line = line(&records);
    let (schedule, by) = line.schedule();
    assert_eq!((schedule.rhythm_seconds.seconds(), by.rhythm_seconds), (7_200, SetBy::Workstation));
    assert_eq!((schedule.hours, by.hours, line.failures()), (TimeOfDay::ALWAYS, SetBy::Nobody, 1));
    let delay = line.agent.expect("it reported").delay.0.expect("and was delayed");
    assert_eq!((delay.reason, delay.since.ms()), (DelayReason::OnBattery, 94));
}

#[test]
fn records_of_the_eleventh_version_keep_what_was_told_and_have_no_proof_and_no_diagnosis() {
    let before = [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH];
    let (_directory, records) = brought_up_to_date(&before);
    let line = line(&records);
    let (schedule, by) = line.schedule();
    assert_eq!((schedule.drill_days.days(), schedule.proof_days.days(), by.proof_days), (30, 90, SetBy::Nobody));
    assert_eq!(line.proof, None);
    records
        .read(|on| {
            assert!(ToldRow::all(on)?.iter().any(|told| told.subject == "knot" && told.kind.0 == AlertKind::NoFirstPoint));
            assert_eq!(
                (WaitRow::list(&line.workstation.id, i64::MAX, 9, on)?.len(), DiagnosisRow::of(&line.workstation.id, on)?),
                (1, None)
            );
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_twelfth_version_keep_proofs_and_settings_and_nobody_enrols_their_own_machine() {
    let before = [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH];
    let (_directory, records) = brought_up_to_date(&before);
    assert_eq!(line(&records).proof.expect("kept").at.ms(), 99);
    records
        .read(|on| {
            assert_eq!((runs_at_once(on)?, own_machines(on)?), (Count::new(3), false));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_thirteenth_version_keep_what_agents_said_and_what_kept_backups_waiting() {
    let before = [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH, THIRTEENTH];
    let (_directory, records) = brought_up_to_date(&before);
    let line = line(&records);
    let agent = line.agent.clone().expect("it reported");
    let delay = agent.delay.0.expect("and was delayed");
    assert_eq!((delay.reason, delay.since.ms(), line.failures()), (DelayReason::OnBattery, 94, 2));
    records
        .read(|on| {
            let waits = WaitRow::list(&line.workstation.id, i64::MAX, 9, on)?;
            assert_eq!((waits.len(), own_machines(on)?), (1, true));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_fourteenth_version_keep_what_was_restored_and_tell_more_apart_from_now_on() {
    let before =
        [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH, THIRTEENTH, FOURTEENTH];
    let (_directory, records) = brought_up_to_date(&before);
    let delay = line(&records).agent.and_then(|agent| agent.delay.0).expect("it waits");
    assert_eq!(delay.reason, DelayReason::LimitReached);
    let purpose =
        |on: &mut Connection| Ok::<_, RecordsError>(RestoreRow::by_id(&RestoreId("r".into()), on)?.expect("there").purpose.0);
    assert_eq!(records.read(purpose).expect("readable"), Purpose::Restore);
    records.write(|on| Ok::<_, RecordsError>(on.batch_execute("UPDATE restores SET purpose = 'mount'")?)).expect("known now");
    assert_eq!(records.read(purpose).expect("readable"), Purpose::Mount);
}

#[test]
fn records_of_the_fifteenth_version_have_points_of_which_nothing_is_suspect() {
    let before = [
        FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH, THIRTEENTH, FOURTEENTH,
        FIFTEENTH,
    ];
    let (_directory, records) = brought_up_to_date(&before);
    let point = line(&records).latest_point.expect("there");
    assert_eq!((point.suspicion, point.mark.is_some(), point.is_suspect()), (None, false, false));
    let set = "UPDATE points SET suspicion = 'deleted' WHERE sequence = 2";
    records.write(|on| Ok::<_, RecordsError>(on.batch_execute(set)?)).expect("known now");
    let suspects = line(&records).suspect.expect("suspect now");
    assert_eq!((suspects.latest.sequence.get(), suspects.last_good.map(|row| row.sequence.get())), (2, Some(1)));
}

#[test]
fn records_of_the_sixteenth_version_have_restores_of_which_it_is_not_known_from_where_or_where_to() {
    let before = [
        FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH, THIRTEENTH, FOURTEENTH,
        FIFTEENTH, SIXTEENTH,
    ];
    let (_directory, records) = brought_up_to_date(&before);
    assert_eq!(line(&records).suspect.expect("still").latest.sequence.get(), 2);
    let id = RestoreId("r".into());
    let row = records.read(|on| Ok::<_, RecordsError>(RestoreRow::by_id(&id, on)?)).expect("readable").expect("there");
    assert_eq!((row.origin, row.target.map(|target| target.0), row.cancelled_by), (None, None, None));
    let known = ["purpose = 'browse'", "target = 'beside'"];
    for set in known {
        let set = format!("UPDATE restores SET {set}");
        records.write(|on| Ok::<_, RecordsError>(on.batch_execute(&set)?)).expect("known now");
    }
    let unknown = records.write(|on| Ok::<_, RecordsError>(on.batch_execute("UPDATE restores SET target = 'the moon'")?));
    assert!(unknown.is_err());
}

#[test]
fn records_of_the_seventeenth_version_have_no_orders_and_take_those_that_hang_together() {
    let before = [
        FIRST,
        SECOND,
        THIRD,
        FOURTH,
        FIFTH,
        SIXTH,
        SEVENTH,
        EIGHTH,
        NINTH,
        TENTH,
        ELEVENTH,
        TWELFTH,
        THIRTEENTH,
        FOURTEENTH,
        FIFTEENTH,
        SIXTEENTH,
        SEVENTEENTH,
    ];
    let (_directory, records) = brought_up_to_date(&before);
    let workstation = line(&records).workstation.id.0;
    let row = records.read(|on| Ok::<_, RecordsError>(RestoreRow::by_id(&RestoreId("r".into()), on)?)).expect("readable");
    assert_eq!(row.and_then(|row| row.origin).as_deref(), Some("10.0.1.9"));
    let order = |state: &str, ended: &str, sealed: &str| {
        let set = format!(
            "INSERT INTO orders (id, workstation_id, by, origin, state, created, expires, ended, sealed)
                VALUES ('{state}', '{workstation}', 'ingrid', '10.0.1.9', '{state}', 1, 2, {ended}, {sealed})"
        );
        records.write(|on| Ok::<_, RecordsError>(on.batch_execute(&set)?))
    };
    for (state, ended, sealed) in [
        ("waiting", "NULL", "NULL"),
        ("waiting", "3", "NULL"),
        ("done", "NULL", "x'00'"),
        ("done", "3", "x'00'"),
        ("lost", "3", "NULL"),
    ] {
        order(state, ended, sealed).expect_err(state);
    }
    order("waiting", "NULL", "x'00'").expect("one that waits");
    order("done", "3", "NULL").expect("one that ended");
    let open = records.read(|on| Ok::<_, RecordsError>(OrderRow::open_of(&workstation, on)?)).expect("readable");
    assert_eq!((open.len(), open[0].is_open(Moment::from_ms(1)), open[0].is_open(Moment::from_ms(2))), (1, true, false));
}

#[test]
fn records_of_the_eighteenth_version_have_restores_that_nobody_checked_off_and_take_one_checklist_each() {
    let before = [
        FIRST,
        SECOND,
        THIRD,
        FOURTH,
        FIFTH,
        SIXTH,
        SEVENTH,
        EIGHTH,
        NINTH,
        TENTH,
        ELEVENTH,
        TWELFTH,
        THIRTEENTH,
        FOURTEENTH,
        FIFTEENTH,
        SIXTEENTH,
        SEVENTEENTH,
        EIGHTEENTH,
    ];
    let (_directory, records) = brought_up_to_date(&before);
    let id = RestoreId("r".into());
    let row = || records.read(|on| Ok::<_, RecordsError>(RestoreRow::by_id(&id, on)?)).expect("readable").expect("there");
    assert!(row().checklist.is_none());
    let found = |what: &str| CheckedOff {
        items: vec![CheckedItem { what: what.into(), state: CheckState::Right, found: "all of them".into() }],
    };
    let noted = |what| records.write(|on| Ok::<_, RecordsError>(row().check_off(&found(what), on)?)).expect("written");
    assert!(noted("Entries") && !noted("Contents"), "what was found first stays");
    assert_eq!(row().checklist.map(|list| list.0), Some(found("Entries")));
    let order = records.read(|on| Ok::<_, RecordsError>(OrderRow::by_id(&RestoreOrderId("o".into()), on)?)).expect("readable");
    assert_eq!(order.and_then(|order| order.restore_id).map(|restore| restore.0), Some(id.clone()));
}

#[test]
fn records_of_the_third_version_stay_encrypted_and_their_codes_make_what_they_made() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD]);
    let line = line(&records);
    assert!(line.store.encrypted);
    assert_eq!((line.destination.encryption.0.word(), line.destination.default_limit), ("required", Count::new(300)));
    records
        .read(|on| {
            let code = CodeRow::by_secret(&[4], on)?.expect("a code");
            assert_eq!((code.machine, code.limit_said, code.size_limit, code.encrypted), (None, false, None, true));
            assert_eq!(Switches::get(on)?.new_backups.0, Accepting::Off);
            let discovery = DiscoveryRow::get(on)?;
            assert_eq!((discovery.announcing, discovery.chosen()), (true, Vec::new()));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_fourth_version_have_restores_that_were_no_drills_and_tell_nobody_by_mail() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH]);
    let line = line(&records);
    assert_eq!((line.store.drilled, line.store.drilled_point, line.store.drill_failed), (None, None, None));
    records
        .read(|on| {
            let restore = RestoreRow::by_id(&RestoreId("r".into()), on)?.expect("a restore");
            assert_eq!(
                (restore.purpose.0.word(), restore.outcome.0.word(), restore.sequence),
                ("restore", "complete", Count::ONE)
            );
            assert_eq!((MailRow::get(on)?, ToldRow::all(on)?.len(), units(on)?), (None, 0, Units::Binary));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_fifth_version_get_a_protected_time_and_the_services_own_times() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH]);
    let line = line(&records);
    assert_eq!((line.destination.protected_days, line.store.lost_points, line.store.room_made.0), (Days(30), Count::ZERO, None));
    records
        .read(|on| {
            let committed = |sequence, on: &mut _| {
                Ok::<_, RecordsError>(
                    PointRow::find(&store(), Count::new(sequence).expect("small"), on)?.expect("there").committed,
                )
            };
            assert_eq!((committed(1, on)?.ms(), committed(2, on)?.ms()), (5, 80), "the end of the run that made it");
            assert!(committed(3, on)?.ms() < 4_102_444_800_000, "nothing is from the future");
            assert_eq!(EarlierTermsRow::of_store(&store(), on)?.len(), 0);
            assert_eq!(ToldRow::all(on)?[0].detail, "");
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_sixth_version_take_their_slots_over_later_and_no_point_of_theirs_is_about_to_go() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH]);
    let line = line(&records);
    assert_eq!((line.store.slots_noted, line.store.occupied, line.store.lost_points), (false, Count::ZERO, Count::ONE));
    records
        .read(|on| {
            assert!(PointRow::list(&store(), i64::MAX, 10, on)?.iter().all(|point| !point.going));
            assert_eq!(SlotRow::of_store(&store(), on)?, []);
            assert_eq!(EarlierTermsRow::of_store(&store(), on)?.len(), 1);
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_seventh_version_say_the_same_in_the_words_of_today() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH]);
    let line = line(&records);
    let DestinationRow { at_limit, granted_to, records_backed_up, records_backup_trouble, .. } = line.destination;
    assert_eq!((at_limit.0.word(), granted_to.0), ("expire_oldest", GrantScope::Chosen));
    assert_eq!((records_backed_up, records_backup_trouble.as_deref()), (Some(Moment::from_ms(11)), Some("no room")));
    let StoreRow { retention, removal, .. } = line.store;
    assert_eq!(retention.map(|retention| retention.0.to_string()).as_deref(), Some("9 days, at least 0"));
    assert_eq!(removal.0, Some(Removal { ends: Moment::from_ms(12), by: "ingrid".into() }));
    records
        .read(|on| {
            let point = PointRow::find(&store(), Count::ONE, on)?.expect("there");
            assert_eq!(point.removal.0, Some(Removal { ends: Moment::from_ms(13), by: "anna".into() }));
            assert_eq!(RestoreRow::by_id(&RestoreId("r".into()), on)?.expect("there").purpose.0.word(), "restore");
            assert_eq!(DismissedRow::all(on)?[0].step.0, Step::Maintenance);
            assert!(ToldRow::all(on)?.iter().any(|told| told.kind.0 == AlertKind::RecordsNotBackedUp));
            let terms = EarlierTermsRow::of_store(&store(), on)?;
            assert_eq!((terms[0].retention.0.to_string().as_str(), terms[0].at_limit.0.word()), ("everything", "expire_oldest"));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}

#[test]
fn records_of_the_second_version_stay_open_to_everybody_and_let_backups_in() {
    let (_directory, records) = brought_up_to_date(&[FIRST, SECOND]);
    let line = line(&records);
    assert_eq!(
        (line.destination.retention.0.to_string().as_str(), line.destination.granted_to.0),
        ("30 days, at least 0", GrantScope::Everybody)
    );
    assert_eq!((line.account.quota, line.account.kind.0.word(), line.account.disabled.0), (Count::new(700), "person", None));
    assert_eq!(
        (line.store.size_limit, line.store.hold.0.as_ref().map(|hold| hold.reason.as_str())),
        (Count::new(500), Some("a dispute"))
    );
    assert_eq!(line.workstation.rest.0, None);
    records
        .read(|on| {
            let switches = Switches::get(on)?;
            assert_eq!((switches.new_backups.0, switches.restores_stopped), (Accepting::On, false));
            assert_eq!(office_key(on)?, Some(vec![3]));
            let (session, _) = SessionRow::by_secret(&[2], on)?.expect("still signed in");
            assert_eq!(session.scope.0, TokenScope::All);
            let old = AuditRow::after(0, 10, on)?;
            assert_eq!((old.len(), old[0].link.is_none()), (1, true));
            Ok::<_, RecordsError>(())
        })
        .expect("readable");
}
