//! The records: one SQLite file. Queries live here and nowhere else; transactions are opened by the use cases.
//!
//! Of what there is one row at most, that row is loaded by `get_result`, not by `first`: the limit that this adds is a bound value,
//! and SQLite prepares a statement with such a limit anew each time, which costs more than running it.

use std::convert::Infallible;
use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::mpsc;
use std::time::Duration;

pub(crate) use audit::{AuditFilter, AuditRow, NewEntry};
use diesel::connection::{Connection as _, SimpleConnection};
use diesel::prelude::*;
use diesel::r2d2::{ConnectionManager, CustomizeConnection, Pool};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
pub(crate) use dismissed::{DismissedRow, limits, people};
pub(crate) use enrolments::{CodeRow, CodeWithNames, NewCode};
pub(crate) use history::{JobRow, NewRun, PointRow, RestoreRow, RunRow, added_by_day};
pub(crate) use installation::{
    DiscoveryRow, Switches, end_escrow, escrow, first_code_hash, important_change, insert_installation, installation_id,
    office_key, set_first_code_hash, set_important_change, set_office_key, set_units, units, write_nothing_new,
};
pub(crate) use machines::{StoreRow, WorkstationLine, WorkstationRow};
pub(crate) use mail::{MailRow, ToldRow};
pub(crate) use people::{AccountRow, GroupRow};
pub(crate) use places::{DestinationRow, GrantedTo};
pub(crate) use sessions::SessionRow;
pub(crate) use slots::SlotRow;
pub(crate) use terms::EarlierTermsRow;
pub(crate) use word::{Word, Written};

mod audit;
mod dismissed;
mod enrolments;
mod history;
mod installation;
mod machines;
mod mail;
mod people;
mod places;
mod schema;
mod sessions;
mod slots;
mod terms;
mod word;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// Why the records could not be read or written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum RecordsError {
    /// The file could not be opened or brought up to date.
    #[error("opening the records: {0}")]
    Open(String),
    /// No connection was free in time.
    #[error("the records are busy")]
    Busy(#[from] diesel::r2d2::PoolError),
    /// Another program holds the file.
    #[error("the records are held by another program: {0}")]
    Locked(diesel::result::Error),
    /// The volume that the file is on is full.
    #[error("the volume of the records is full: {0}")]
    Full(diesel::result::Error),
    /// A statement failed.
    #[error("the records: {}", whole(.0))]
    Statement(diesel::result::Error),
}

impl From<diesel::result::Error> for RecordsError {
    /// SQLite's own words tell which failure it was: its result code is not handed on.
    fn from(error: diesel::result::Error) -> Self {
        let said = match &error {
            diesel::result::Error::DatabaseError(_, said) => said.message(),
            diesel::result::Error::RollbackErrorOnCommit { commit_error, .. } => match &**commit_error {
                diesel::result::Error::DatabaseError(_, said) => said.message(),
                _ => "",
            },
            _ => "",
        };
        match said {
            "database is locked" | "database table is locked" => Self::Locked(error),
            "database or disk is full" => Self::Full(error),
            _ => Self::Statement(error),
        }
    }
}

/// What a failure says, with its causes: what is wrong with a column is said by the last.
fn whole(error: &diesel::result::Error) -> String {
    let mut said = vec![error.to_string()];
    let mut cause = std::error::Error::source(error);
    while let Some(one) = cause {
        said.push(one.to_string());
        cause = one.source();
    }
    said.dedup();
    said.join(": ")
}

/// A connection, as queries take it.
pub(crate) type Connection = SqliteConnection;
type Rows<T> = Result<T, diesel::result::Error>;

/// The records file, open.
#[derive(Clone)]
pub(crate) struct Records {
    pool: Pool<ConnectionManager<SqliteConnection>>,
    /// Goes after the pool, and with the last copy of it.
    _open: Option<mpsc::Sender<Infallible>>,
}

#[derive(Debug)]
struct Settings;

impl CustomizeConnection<SqliteConnection, diesel::r2d2::Error> for Settings {
    fn on_acquire(&self, connection: &mut SqliteConnection) -> Result<(), diesel::r2d2::Error> {
        connection
            .batch_execute(
                "PRAGMA busy_timeout = 10000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;",
            )
            .map_err(diesel::r2d2::Error::QueryError)
    }
}

impl Records {
    /// Opens the file and brings it up to date.
    pub(crate) fn open(path: &Path) -> Result<Self, RecordsError> {
        let path = path.to_str().ok_or_else(|| RecordsError::Open("the path of the state directory is not text".into()))?;
        // SQLite gives its other files the mode of this one.
        let private = OpenOptions::new().read(true).append(true).create(true).mode(0o600).open(path);
        private.map_err(|e| RecordsError::Open(e.to_string()))?;
        // Several connections that want to be the first to turn the log on would be in each other's way.
        SqliteConnection::establish(path)
            .map_err(|e| RecordsError::Open(e.to_string()))?
            .batch_execute("PRAGMA busy_timeout = 10000; PRAGMA journal_mode = WAL;")?;
        let pool = Pool::builder()
            .max_size(8)
            // A file that is open stays open: there is nothing to ask before each use.
            .test_on_check_out(false)
            .connection_timeout(Duration::from_secs(10))
            .connection_customizer(Box::new(Settings))
            .build(ConnectionManager::new(path))?;
        pool.get()?.run_pending_migrations(MIGRATIONS).map_err(|e| RecordsError::Open(e.to_string()))?;
        Ok(Self { pool, _open: None })
    }

    /// The same, with what is disconnected when the last copy is gone and the file is closed.
    pub(crate) fn watched(self) -> (Self, mpsc::Receiver<Infallible>) {
        let (open, closed) = mpsc::channel();
        (Self { _open: Some(open), ..self }, closed)
    }

    /// Writes a copy of all records as they are now to a new file.
    pub(crate) fn copy_to(&self, path: &Path) -> Result<(), RecordsError> {
        let path = path.to_str().ok_or_else(|| RecordsError::Open("the path of the copy is not text".into()))?;
        let mut connection = self.pool.get()?;
        diesel::sql_query("VACUUM INTO ?").bind::<diesel::sql_types::Text, _>(path).execute(&mut *connection)?;
        Ok(())
    }

    /// Reads within one transaction, so that what is read belongs together.
    pub(crate) fn read<T, E>(&self, work: impl FnOnce(&mut Connection) -> Result<T, E>) -> Result<T, E>
    where
        E: From<RecordsError> + From<diesel::result::Error>,
    {
        let mut connection = self.pool.get().map_err(RecordsError::from)?;
        (*connection).transaction(work)
    }

    /// Writes within one transaction: all of it, or nothing when `work` fails.
    pub(crate) fn write<T, E>(&self, work: impl FnOnce(&mut Connection) -> Result<T, E>) -> Result<T, E>
    where
        E: From<RecordsError> + From<diesel::result::Error>,
    {
        let mut connection = self.pool.get().map_err(RecordsError::from)?;
        // SQLite may have rolled back by itself, as on a full volume. That there is nothing left to roll back would then be
        // all that was told: what `work` failed of is kept apart.
        let mut failed = None;
        let done = (*connection).immediate_transaction(|on| {
            work(on).map_err(|error| {
                failed = Some(error);
                diesel::result::Error::RollbackTransaction
            })
        });
        done.map_err(|error| failed.unwrap_or_else(|| RecordsError::from(error).into()))
    }
}

/// Whether a statement failed because something with this name or key is there already.
pub(crate) fn is_duplicate(error: &diesel::result::Error) -> bool {
    matches!(error, diesel::result::Error::DatabaseError(diesel::result::DatabaseErrorKind::UniqueViolation, _))
}

#[cfg(test)]
mod tests {
    use super::*;

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

    fn line(records: &Records) -> WorkstationLine {
        records.read(|on| Ok::<_, RecordsError>(WorkstationLine::by_store("s", on)?)).expect("readable").expect("there")
    }

    #[test]
    fn a_word_that_no_column_may_hold_is_an_error_that_names_it() {
        let (_directory, records) = brought_up_to_date(&[FIRST]);
        records
            .write(|on| {
                on.batch_execute("UPDATE accounts SET role = 'emperor'")?;
                let error = RecordsError::from(AccountRow::by_id("a", on).expect_err("no such role")).to_string();
                assert!(error.contains("'emperor'") && error.contains("role"), "{error}");
                Ok::<_, RecordsError>(())
            })
            .expect("written");
    }

    #[test]
    fn records_of_the_first_version_are_brought_up_to_date_and_lose_nothing() {
        let (_directory, records) = brought_up_to_date(&[FIRST]);
        let line = line(&records);
        assert_eq!((line.workstation.name.as_str(), line.account.login.as_str()), ("knot", "anna"));
        assert_eq!(
            (line.destination.retention.0.to_string().as_str(), line.destination.at_limit.0.word()),
            ("everything", "stop")
        );
        assert_eq!((line.destination.capacity, line.destination.waiting_days), (Some(1000), 7));
        assert_eq!((line.store.size_limit, line.store.gone, line.account.quota), (None, None, None));
        let point = line.latest_point.expect("its point is there");
        assert_eq!((point.sequence, point.sent, point.held, point.removal_ends), (1, 4, None, None));
    }

    #[test]
    fn records_of_the_third_version_stay_encrypted_and_their_codes_make_what_they_made() {
        let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD]);
        let line = line(&records);
        assert!(line.store.encrypted);
        assert_eq!((line.destination.encryption.0.word(), line.destination.default_limit), ("required", Some(300)));
        records
            .read(|on| {
                let code = CodeRow::by_secret(&[4], on)?.expect("a code");
                assert_eq!((code.machine, code.limit_said, code.size_limit, code.encrypted), (None, false, None, true));
                assert_eq!(Switches::get(on)?.new_backups, "off");
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
                let restore = RestoreRow::by_id("r", on)?.expect("a restore");
                assert_eq!((restore.purpose.0.word(), restore.outcome.0.word(), restore.sequence), ("restore", "complete", 1));
                assert_eq!((MailRow::get(on)?, ToldRow::all(on)?.len(), units(on)?.as_str()), (None, 0, "binary"));
                Ok::<_, RecordsError>(())
            })
            .expect("readable");
    }

    #[test]
    fn records_of_the_fifth_version_get_a_protected_time_and_the_services_own_times() {
        let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH]);
        let line = line(&records);
        assert_eq!((line.destination.protected_days, line.store.lost_points, line.store.room_made), (30, 0, None));
        records
            .read(|on| {
                let committed =
                    |sequence, on: &mut _| Ok::<_, RecordsError>(PointRow::find("s", sequence, on)?.expect("there").committed);
                assert_eq!((committed(1, on)?, committed(2, on)?), (5, 80), "the end of the run that made it");
                assert!(committed(3, on)? < 4_102_444_800_000, "nothing is from the future");
                assert_eq!(EarlierTermsRow::of_store("s", on)?.len(), 0);
                assert_eq!(ToldRow::all(on)?[0].detail, "");
                Ok::<_, RecordsError>(())
            })
            .expect("readable");
    }

    #[test]
    fn records_of_the_sixth_version_take_their_slots_over_later_and_no_point_of_theirs_is_about_to_go() {
        let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH]);
        let line = line(&records);
        assert_eq!((line.store.slots_noted, line.store.occupied, line.store.lost_points), (false, 0, 1));
        records
            .read(|on| {
                assert!(PointRow::list("s", i64::MAX, 10, on)?.iter().all(|point| !point.going));
                assert_eq!(SlotRow::of_store("s", on)?, []);
                assert_eq!(EarlierTermsRow::of_store("s", on)?.len(), 1);
                Ok::<_, RecordsError>(())
            })
            .expect("readable");
    }

    #[test]
    fn records_of_the_seventh_version_say_the_same_in_the_words_of_today() {
        let (_directory, records) = brought_up_to_date(&[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH]);
        let line = line(&records);
        let DestinationRow { at_limit, granted_to, records_backed_up, records_backup_trouble, .. } = line.destination;
        assert_eq!((at_limit.0.word(), granted_to.as_str()), ("expire_oldest", "chosen"));
        assert_eq!((records_backed_up, records_backup_trouble.as_deref()), (Some(11), Some("no room")));
        let StoreRow { retention, removal_ends, removal_by, .. } = line.store;
        assert_eq!(
            (retention.map(|retention| retention.0.to_string()).as_deref(), removal_ends, removal_by.as_deref()),
            (Some("9 days, at least 0"), Some(12), Some("ingrid"))
        );
        records
            .read(|on| {
                let point = PointRow::find("s", 1, on)?.expect("there");
                assert_eq!((point.removal_ends, point.removal_by.as_deref()), (Some(13), Some("anna")));
                assert_eq!(RestoreRow::by_id("r", on)?.expect("there").purpose.0.word(), "restore");
                assert_eq!(DismissedRow::all(on)?[0].step, "maintenance");
                assert!(ToldRow::all(on)?.iter().any(|told| told.kind == "records_not_backed_up"));
                let terms = EarlierTermsRow::of_store("s", on)?;
                assert_eq!(
                    (terms[0].retention.0.to_string().as_str(), terms[0].at_limit.0.word()),
                    ("everything", "expire_oldest")
                );
                Ok::<_, RecordsError>(())
            })
            .expect("readable");
    }

    #[test]
    fn records_of_the_second_version_stay_open_to_everybody_and_let_backups_in() {
        let (_directory, records) = brought_up_to_date(&[FIRST, SECOND]);
        let line = line(&records);
        assert_eq!(
            (line.destination.retention.0.to_string().as_str(), line.destination.granted_to.as_str()),
            ("30 days, at least 0", "everybody")
        );
        assert_eq!((line.account.quota, line.account.kind.0.word(), line.account.disabled), (Some(700), "person", None));
        assert_eq!((line.store.size_limit, line.store.held.as_deref()), (Some(500), Some("a dispute")));
        assert_eq!(line.workstation.rest, None);
        records
            .read(|on| {
                let switches = Switches::get(on)?;
                assert_eq!((switches.new_backups.as_str(), switches.restores_stopped), ("on", false));
                assert_eq!(office_key(on)?, Some(vec![3]));
                let (session, _) = SessionRow::by_secret(&[2], on)?.expect("still signed in");
                assert_eq!(session.scope, "all");
                let old = AuditRow::after(0, 10, on)?;
                assert_eq!((old.len(), old[0].link.is_none()), (1, true));
                Ok::<_, RecordsError>(())
            })
            .expect("readable");
    }
}
