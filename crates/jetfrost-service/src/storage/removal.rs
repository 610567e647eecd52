//! What a person may remove, and when it goes: nothing within its protected time, and nothing that is on hold.

use crate::clock::Moment;
use crate::records::{Connection, Days, PointRow, WorkstationLine};
use crate::shared::{Conflict, Invalid, Result, ServiceError};
use crate::storage::points;
use crate::storage::terms::promise;

/// When something goes that a person removes now: after the waiting time, and not before its protected time is over.
pub(crate) fn ends(protected_until: Moment, waiting: Days, now: Moment) -> Moment {
    protected_until.max(now + waiting.ms())
}

/// Until when a point that may be removed is protected.
pub(crate) fn point_protected_until(row: &PointRow, line: &WorkstationLine, on: &mut Connection) -> Result<Moment> {
    if row.hold.is_some() || line.store.hold.is_some() {
        return Err(ServiceError::Conflict(Conflict::PointOnHold));
    }
    if points::is_held_for_suspect(line, row) && !row.is_suspect() {
        return Err(ServiceError::Conflict(Conflict::HeldForSuspect));
    }
    if line.store.latest_sequence == Some(row.sequence) {
        return Err(ServiceError::Conflict(Conflict::LatestPointStays));
    }
    Ok(Moment::from_ms(promise(line, on)?.protected_until_ms(&points::fact(row))))
}

/// Until when any point of an image store that may be removed is protected.
pub(crate) fn store_protected_until(line: &WorkstationLine, now: Moment, on: &mut Connection) -> Result<Moment> {
    if line.store.hold.is_some() || PointRow::any_held(&line.store.id, on)? {
        return Err(ServiceError::Conflict(Conflict::StoreOnHold));
    }
    if line.suspect.is_some() {
        return Err(ServiceError::Conflict(Conflict::HeldForSuspect));
    }
    let rows = PointRow::list(&line.store.id, i64::MAX, points::ALL, on)?;
    let (promise, facts) = (promise(line, on)?, points::facts(line, &rows));
    Ok(facts.iter().map(|fact| Moment::from_ms(promise.protected_until_ms(fact))).max().unwrap_or(now))
}

/// The same where several image stores are to go: a refusal names the one in the way.
pub(crate) fn one_of_several_protected_until(line: &WorkstationLine, now: Moment, on: &mut Connection) -> Result<Moment> {
    store_protected_until(line, now, on).map_err(|error| match error {
        ServiceError::Conflict(Conflict::StoreOnHold | Conflict::HeldForSuspect) => {
            Invalid::OnHold(line.workstation.name.clone()).into()
        }
        other => other,
    })
}

/// Whether an image store that a person removed goes for good now: its waiting time is over, nothing of it is on hold, and no point
/// is within its protected time, even where that was made longer since.
pub(crate) fn store_goes(line: &WorkstationLine, now: Moment, on: &mut Connection) -> Result<bool> {
    if line.store.removal.as_ref().is_none_or(|removal| removal.ends > now) {
        return Ok(false);
    }
    match store_protected_until(line, now, on) {
        Ok(until) => Ok(until <= now),
        Err(ServiceError::Conflict(Conflict::StoreOnHold | Conflict::HeldForSuspect)) => Ok(false),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::retention::NewHold;

    use super::*;
    use crate::shared::DAY_MS;
    use crate::shared::testing::machine::office_with_points;

    #[test]
    fn neither_the_latest_nor_what_is_held_can_be_removed_and_the_rest_waits_until_it_is_not_protected() {
        let (office, machine) = office_with_points([b"one", b"two"]);
        let retention = &office.services.retention;
        let remove = |sequence| retention.remove_point(&office.ingrid, machine.store(), sequence);
        assert!(matches!(remove(2), Err(ServiceError::Conflict(Conflict::LatestPointStays))));
        let hold = NewHold { reason: "a dispute".into() };
        retention.hold_store(&office.ingrid, machine.store(), &hold).expect("held");
        assert!(matches!(remove(1), Err(ServiceError::Conflict(Conflict::PointOnHold))));
        retention.release_store(&office.ingrid, machine.store()).expect("released");
        let ends = remove(1).expect("removed").pending_removal.expect("it waits").ends;
        assert_eq!(Moment::from(ends), office.now() + 30 * DAY_MS, "protected for longer than the waiting time");
    }

    #[test]
    fn a_removed_store_stays_while_it_is_held_and_goes_when_nobody_holds_it() {
        let (office, machine) = office_with_points([b"one"]);
        let (storage, retention) = (&office.services.storage, &office.services.retention);
        retention.remove_store(&office.ingrid, machine.store()).expect("removed");
        retention.hold_point(&office.ingrid, machine.store(), 1, &NewHold { reason: "wait".into() }).expect("held");
        let goes = || {
            let line = storage.line_of_store(machine.store()).expect("there");
            office.records.read(|on| store_goes(&line, office.now(), on)).expect("judged")
        };
        office.pass(400 * DAY_MS);
        assert!(!goes());
        retention.release_point(&office.ingrid, machine.store(), 1).expect("released");
        assert!(goes());
    }
}
