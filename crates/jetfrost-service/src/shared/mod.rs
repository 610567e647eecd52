//! What all use-case services have in common: callers, errors, the way into the audit log, versions, bounds.

pub(crate) mod bounds;
mod caller;
mod conflict;
pub(crate) mod convert;
mod csv_line;
mod error;
pub(crate) mod gate;
mod invalid;
mod subjects;
#[cfg(test)]
pub(crate) mod testing;
mod trail;
pub(crate) mod versions;

use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::Arc;

use jetfrost_image::crypto::Random;
use jetfrost_types::Limit;
use jiff::tz::TimeZone;

use crate::announcer::Announcer;
use crate::certificate::Certificates;
use crate::clock::Clock;
pub(crate) use crate::clock::DAY_MS;
use crate::downloads::Downloads;
use crate::events::Events;
use crate::media::Place;
use crate::records::{Count, DestinationRow, Records, is_duplicate};

pub(crate) use caller::{Caller, Credential, Who};
pub(crate) use conflict::Conflict;
pub(crate) use csv_line::csv_line;
pub(crate) use error::{Comes, NoRoom, Result, ServiceError};
pub(crate) use invalid::Invalid;
pub(crate) use subjects::{CodeFault, Disabled, Thing, Traffic};
pub(crate) use trail::Trail;
pub(crate) use versions::Seen;

/// Who did what nobody asked for.
pub(crate) const SERVICE: &str = "the service";

/// What every service is made with.
pub(crate) struct Basis {
    pub(crate) records: Records,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) random: Arc<dyn Random>,
    pub(crate) events: Events,
    pub(crate) trail: Arc<Trail>,
    pub(crate) announcer: Arc<Announcer>,
    pub(crate) installation: Installation,
    /// Where days begin.
    pub(crate) zone: TimeZone,
}

impl Basis {
    pub(crate) fn new(
        records: Records,
        clock: Arc<dyn Clock>,
        random: Arc<dyn Random>,
        installation: Installation,
        zone: TimeZone,
    ) -> Self {
        let trail = Arc::new(Trail::new(records.clone(), Arc::clone(&clock)));
        Self { records, clock, random, events: Events::new(), trail, announcer: Arc::default(), installation, zone }
    }
}

/// What the service is to the outside.
#[derive(Debug, Clone)]
pub(crate) struct Installation {
    pub(crate) service: String,
    pub(crate) public_name: String,
    /// The address that it listens on.
    pub(crate) listen: IpAddr,
    pub(crate) port: u16,
    pub(crate) certificates: Arc<Certificates>,
    /// Programs that it offers.
    pub(crate) downloads: Arc<Downloads>,
}

/// A destination's place on the media.
pub(crate) fn place(row: &DestinationRow) -> Place {
    Place { id: row.id.0.clone(), directory: PathBuf::from(&row.directory) }
}

/// A name that is fit to be one.
pub(crate) fn checked_name(text: &str) -> Result<String> {
    jetfrost_office::names::check(text).map(str::to_owned).map_err(|e| Invalid::from(e).into())
}

/// The number in the cursor of a list that goes from the latest back.
pub(crate) fn number_cursor(after: Option<&String>) -> Result<i64> {
    after.map_or(Ok(i64::MAX), |after| after.parse().map_err(|_| Invalid::Cursor.into()))
}

/// What a failed insert or update says when its name is taken.
pub(crate) fn taken(name: &str, error: diesel::result::Error) -> ServiceError {
    if is_duplicate(&error) { ServiceError::NameTaken(name.to_owned()) } else { error.into() }
}

/// A limit in words.
pub(crate) fn shown_limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "none".into(), jetfrost_wire::size::show)
}

/// A number for the records, whose integers are signed.
pub(crate) fn to_db(number: u64) -> Result<Count> {
    Count::new(number).ok_or_else(|| Invalid::TooLarge(number).into())
}

/// A limit for the records; none is `NULL`.
pub(crate) fn limit_to_db(limit: Limit) -> Result<Option<Count>> {
    limit.bytes().map(to_db).transpose()
}

/// Days for which something waits, or after which it comes again.
pub(crate) fn check_days(days: u32) -> Result<()> {
    if days > bounds::DAYS { Err(Invalid::Days.into()) } else { Ok(()) }
}
