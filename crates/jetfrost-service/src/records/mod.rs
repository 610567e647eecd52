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

pub(crate) use agents::{AgentRow, NewWait, WaitRow};
pub(crate) use audit::{AuditFilter, AuditRow, NewEntry};
pub(crate) use columns::{Count, Days, Id, InJson, Port, Word, Written};
pub(crate) use diagnoses::{DiagnosisRow, Ended, FormerCredentialRow, ProofRow};
use diesel::connection::{Connection as _, SimpleConnection};
use diesel::prelude::*;
use diesel::r2d2::{ConnectionManager, CustomizeConnection, Pool};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
pub(crate) use dismissed::{DismissedRow, limits, people};
pub(crate) use enrolments::{CodeRow, CodeWithNames, NewCode};
pub(crate) use history::{JobRow, NewRun, PointRow, RestoreRow, RunRow, Suspects, added_by_day};
pub(crate) use installation::{
    Accepting, DiscoveryRow, Switches, end_escrow, escrow, first_code_hash, important_change, insert_installation,
    installation_id, office_key, own_machines, runs_at_once, set_first_code_hash, set_important_change, set_office_key,
    set_own_machines, set_runs_at_once, set_units, units, write_nothing_new,
};
pub(crate) use joint::{
    AgentDelay, Asked, AtRest, Deed, Erasing, GivenMark, Noted, Noticed, OfficePause, Pause, Removal, Rest, WorkstationRest,
};
pub(crate) use machines::{StoreRow, WorkstationLine, WorkstationRow};
pub(crate) use mail::{MailRow, ToldRow};
pub(crate) use orders::OrderRow;
pub(crate) use people::{AccountRow, GroupRow, GroupsOfAccounts};
pub(crate) use places::{DestinationRow, GrantScope, GrantedTo};
pub(crate) use sessions::SessionRow;
pub(crate) use slots::SlotRow;
pub(crate) use terms::EarlierTermsRow;

mod agents;
mod audit;
mod columns;
mod diagnoses;
mod dismissed;
mod enrolments;
mod history;
mod installation;
mod joint;
mod machines;
mod mail;
mod orders;
mod people;
mod places;
mod schema;
mod sessions;
mod slots;
mod terms;
#[cfg(test)]
mod tests;

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
        // all that is reported: why `work` failed is kept apart.
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
