//! Terms: by what the points of an image store are kept, and that shorter ones do not count for what is there already.

use jetfrost_office::protected::{Earlier, LEAST_DAYS_MAKING_ROOM, Promise, Terms};
use jetfrost_wire::retention::{AtLimit, Retention, Rule};

use crate::clock::Moment;
use crate::records::{Connection, Days, DestinationRow, EarlierTermsRow, Noted, PointRow, StoreRow, WorkstationLine, Written};
use crate::shared::{Invalid, Result, check_days};
use crate::storage::{Storage, points};

/// What is kept of a workstation's points: by its own word, or by its destination's.
pub(crate) fn retention(line: &WorkstationLine) -> Retention {
    retention_of(&line.store, &line.destination)
}

fn retention_of(store: &StoreRow, destination: &DestinationRow) -> Retention {
    store.retention.unwrap_or(destination.retention).0
}

fn terms_of(retention: &Retention, protected_days: Days, at_limit: AtLimit) -> Terms {
    Terms { rule: retention.rule().copied(), protected_days: protected_days.0, makes_room: at_limit == AtLimit::ExpireOldest }
}

fn present(store: &StoreRow, destination: &DestinationRow) -> Terms {
    terms_of(&retention_of(store, destination), destination.protected_days, destination.at_limit.0)
}

/// What was promised of the points of an image store.
pub(crate) fn promise(line: &WorkstationLine, on: &mut Connection) -> Result<Promise> {
    let earlier = |row: EarlierTermsRow| Earlier {
        terms: terms_of(&row.retention.0, row.protected_days, row.at_limit.0),
        ended_ms: row.ended.ms(),
    };
    let rows = EarlierTermsRow::of_store(&line.store.id, on)?;
    Ok(Promise { now: present(&line.store, &line.destination), earlier: rows.into_iter().map(earlier).collect() })
}

/// Keeps on record by what a store's points were kept, when that changes.
fn note_change(
    before: (&StoreRow, &DestinationRow),
    after: (&StoreRow, &DestinationRow),
    now: Moment,
    on: &mut Connection,
) -> Result<()> {
    if present(before.0, before.1) == present(after.0, after.1) {
        return Ok(());
    }
    let row = EarlierTermsRow {
        store_id: before.0.id.clone(),
        retention: Written(retention_of(before.0, before.1)),
        protected_days: before.1.protected_days,
        at_limit: before.1.at_limit,
        ended: now,
    };
    Ok(row.put(on)?)
}

/// A store's own terms change from `before` to those of `line`.
pub(crate) fn change_of_store(before: &StoreRow, line: &mut WorkstationLine, now: Moment, on: &mut Connection) -> Result<()> {
    note_change((before, &line.destination), (&line.store, &line.destination), now, on)?;
    let (was, is) = (present(before, &line.destination), present(&line.store, &line.destination));
    if let Some(how) = shortened(&was, &is) {
        *line.store.shortened = Some(Noted { at: now, what: how });
    }
    Ok(())
}

/// Whether terms can be promised.
pub(crate) fn check_terms(row: &DestinationRow) -> Result<()> {
    check_days(row.protected_days.0)?;
    if row.at_limit.0 == AtLimit::ExpireOldest && row.protected_days < Days(LEAST_DAYS_MAKING_ROOM) {
        return Err(Invalid::ProtectedTooShort.into());
    }
    Ok(())
}

/// A destination's terms change: for each of its image stores that goes by them.
pub(crate) fn change_of_destination(
    before: &DestinationRow,
    after: &mut DestinationRow,
    now: Moment,
    on: &mut Connection,
) -> Result<()> {
    check_terms(after)?;
    for line in WorkstationLine::on_destination(&after.id, on)? {
        note_change((&line.store, before), (&line.store, after), now, on)?;
    }
    let of = |row: &DestinationRow| terms_of(&row.retention.0, row.protected_days, row.at_limit.0);
    if let Some(how) = shortened(&of(before), &of(after)) {
        *after.shortened = Some(Noted { at: now, what: how });
    }
    Ok(())
}

/// How terms became shorter, in words; `None` when they did not.
fn shortened(before: &Terms, after: &Terms) -> Option<String> {
    let mut how = Vec::new();
    if after.protected_days < before.protected_days {
        how.push(format!("the protected time went from {} to {} days", before.protected_days, after.protected_days));
    }
    if after.makes_room && !before.makes_room {
        how.push("the oldest points now go at a limit".to_owned());
    }
    let steps = |rule: &Rule| [rule.hours, rule.days, rule.weeks, rule.months, rule.years, rule.at_least];
    let less = match (&before.rule, &after.rule) {
        (_, None) => false,
        (None, Some(_)) => true,
        (Some(before), Some(after)) => steps(before).into_iter().zip(steps(after)).any(|(before, after)| after < before),
    };
    if less {
        how.push("the retention rule is shorter".to_owned());
    }
    (!how.is_empty()).then(|| how.join(", "))
}

impl Storage {
    pub(crate) fn promise(&self, line: &WorkstationLine) -> Result<Promise> {
        self.records.read(|on| promise(line, on))
    }

    /// Forgets earlier terms once no point is there that was made under them. Whether they make a difference now does not count:
    /// under a hold they make none, and do again when it is released.
    pub(crate) fn forget_earlier_terms(&self, line: &WorkstationLine) -> Result<()> {
        self.records.write(|on| {
            let points = PointRow::list(&line.store.id, i64::MAX, points::ALL, on)?;
            let oldest = points.iter().map(|row| row.committed).min().unwrap_or(Moment::LAST);
            Ok(EarlierTermsRow::remove_ended_before(oldest, &line.store.id, on)?)
        })
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::destination::DestinationChange;
    use jetfrost_wire::retention::AtLimit;

    use crate::shared::testing::Office;
    use crate::shared::versions::Seen;
    use crate::shared::{DAY_MS, Invalid, ServiceError};

    #[test]
    fn a_shorter_protected_time_does_not_reach_back() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        office.person("tove", Role::Member);
        let mut machine = office.machine("tove", "front desk");
        machine.back_up(&office, b"one").expect("a point");
        let shorter = DestinationChange { protected_days: Some(1), ..DestinationChange::default() };
        office.pass(1);
        office.services.storage.change_destination(&office.ingrid, &shelf.id, &shorter, &Seen::Anything).expect("changed");
        office.pass(1);
        for content in [b"two", b"six"] {
            machine.back_up(&office, content).expect("a point");
        }
        let removed = |sequence| {
            let point = office.services.retention.remove_point(&office.ingrid, machine.store(), sequence).expect("removed");
            (point.pending_removal.expect("it waits").ends.as_millisecond() - point.committed.as_millisecond()) / DAY_MS
        };
        assert_eq!((removed(1), removed(2)), (30, 7), "the first keeps its term; the second has the waiting time");
    }

    #[test]
    fn a_term_that_a_stolen_credential_could_flood_is_refused() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let to = |days, at_limit| DestinationChange {
            protected_days: Some(days),
            at_limit: Some(at_limit),
            ..DestinationChange::default()
        };
        let set = |change| office.services.storage.change_destination(&office.ingrid, &shelf.id, &change, &Seen::Anything);
        assert!(matches!(set(to(6, AtLimit::ExpireOldest)), Err(ServiceError::Invalid(Invalid::ProtectedTooShort))));
        set(to(7, AtLimit::ExpireOldest)).expect("long enough");
        set(to(0, AtLimit::Stop)).expect("nothing is pushed out there");
    }
}
