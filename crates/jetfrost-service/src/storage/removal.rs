//! What a person may remove, and when it goes: nothing within its protected time, and nothing that is on hold.

use crate::records::{Connection, Days, PointRow, WorkstationLine};
use crate::shared::{Conflict, Result, ServiceError};
use crate::storage::points;
use crate::storage::terms::promise;

/// When something goes that a person removes now: after the waiting time, and not before its protected time is over.
pub(crate) fn ends(protected_until: i64, waiting: Days, now: i64) -> i64 {
    protected_until.max(now + waiting.ms())
}

/// Until when a point that may be removed is protected.
pub(crate) fn point_protected_until(row: &PointRow, line: &WorkstationLine, on: &mut Connection) -> Result<i64> {
    if row.hold.is_some() || line.store.hold.is_some() {
        return Err(ServiceError::Conflict(Conflict::PointOnHold));
    }
    if line.store.latest_sequence == Some(row.sequence) {
        return Err(ServiceError::Conflict(Conflict::LatestPointStays));
    }
    Ok(promise(line, on)?.protected_until_ms(&points::fact(row)))
}

/// Until when any point of an image store that may be removed is protected.
pub(crate) fn store_protected_until(line: &WorkstationLine, now: i64, on: &mut Connection) -> Result<i64> {
    if line.store.hold.is_some() || PointRow::any_held(&line.store.id, on)? {
        return Err(ServiceError::Conflict(Conflict::StoreOnHold));
    }
    let rows = PointRow::list(&line.store.id, i64::MAX, points::ALL, on)?;
    let (promise, facts) = (promise(line, on)?, points::facts(&rows));
    Ok(facts.iter().map(|fact| promise.protected_until_ms(fact)).max().unwrap_or(now))
}

/// Whether an image store that a person removed goes for good now: its waiting time is over, nothing of it is on hold, and no point
/// is within its protected time, even where that was made longer since.
pub(crate) fn store_goes(line: &WorkstationLine, now: i64, on: &mut Connection) -> Result<bool> {
    if line.store.removal.as_ref().is_none_or(|removal| removal.ends > now) {
        return Ok(false);
    }
    match store_protected_until(line, now, on) {
        Ok(until) => Ok(until <= now),
        Err(ServiceError::Conflict(Conflict::StoreOnHold)) => Ok(false),
        Err(error) => Err(error),
    }
}
