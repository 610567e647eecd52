//! The records: one SQLite file. Queries live here and nowhere else; transactions are opened by the desk.

mod enrolments;
mod history;
mod machines;
mod people;
mod places;
mod schema;
mod sessions;

use std::path::Path;
use std::time::Duration;

use diesel::connection::{Connection as _, SimpleConnection};
use diesel::prelude::*;
use diesel::r2d2::{ConnectionManager, CustomizeConnection, Pool};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

pub(crate) use enrolments::{CodeRow, CodeWithNames};
pub(crate) use history::{NewRun, PointRow, RestoreRow, RunRow};
pub(crate) use machines::{StoreRow, WorkstationLine, WorkstationRow};
pub(crate) use people::{AccountRow, GroupRow};
pub(crate) use places::{DestinationRow, first_code_hash, insert_installation, installation_id, set_first_code_hash};
pub(crate) use sessions::{AuditRow, SessionRow};

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
    /// A statement failed.
    #[error("the records: {0}")]
    Statement(#[from] diesel::result::Error),
}

/// A connection, as queries take it.
pub(crate) type Connection = SqliteConnection;
type Rows<T> = Result<T, diesel::result::Error>;

/// The records file, open.
#[derive(Clone)]
pub(crate) struct Records {
    pool: Pool<ConnectionManager<SqliteConnection>>,
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
        let pool = Pool::builder()
            .max_size(8)
            .connection_timeout(Duration::from_secs(10))
            .connection_customizer(Box::new(Settings))
            .build(ConnectionManager::new(path))?;
        pool.get()?.run_pending_migrations(MIGRATIONS).map_err(|e| RecordsError::Open(e.to_string()))?;
        Ok(Self { pool })
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
        (*connection).immediate_transaction(work)
    }
}

/// Whether a statement failed because something with this name or key is there already.
pub(crate) fn is_duplicate(error: &diesel::result::Error) -> bool {
    matches!(error, diesel::result::Error::DatabaseError(diesel::result::DatabaseErrorKind::UniqueViolation, _))
}
