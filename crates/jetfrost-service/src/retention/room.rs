//! Limits: what may still be stored, and what is done when one is met.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{MutexGuard, PoisonError};

use jetfrost_image::store::{Compaction, Store, StoreError};
use jetfrost_office::capacity::{LimitKind, Usage};
use jetfrost_office::protected::Promise;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::retention::AtLimit;

use crate::clock::Moment;
use crate::media::{Claim, Full};
use crate::records::{Noted, PointRow, StoreRow, WorkstationLine};
use crate::retention::{Retention, thinning};
use crate::shared::{Comes, NoRoom, Result, ServiceError, place};
use crate::storage::capacity::Purpose;
use crate::storage::points;

/// Room that is taken as bytes arrive. What is taken counts until it is settled or dropped.
pub(crate) struct Room {
    claim: Claim,
    levels: Vec<Usage>,
    names: Names,
}

/// Whose the limits are.
struct Names {
    workstation: String,
    login: String,
    destination: String,
}

impl Names {
    fn of(&self, bound: LimitKind) -> &str {
        match bound {
            LimitKind::StoreLimit => &self.workstation,
            LimitKind::Quota => &self.login,
            LimitKind::Capacity | LimitKind::Reserve => &self.destination,
        }
    }
}

impl Room {
    /// Takes room for bytes that arrived.
    pub(crate) fn take(&mut self, bytes: u64) -> Result<()> {
        self.claim.take(bytes).map_err(|full| self.refusal(bytes, full))
    }

    /// Gives the room back at the same moment as `count` counts what was written.
    pub(crate) fn settle(self, count: &dyn Fn()) {
        self.claim.settle(count);
    }

    /// What is left for more.
    pub(crate) fn left(&self) -> u64 {
        self.claim.left()
    }

    fn refusal(&self, wanted: u64, full: Full) -> ServiceError {
        let level = self.levels[full.budget];
        let of = self.names.of(level.bound).to_owned();
        ServiceError::NoRoom(Box::new(NoRoom { level, of, wanted, left: full.left, comes: None }))
    }
}

/// What an image store's oldest points would free if room were made.
#[derive(Debug, Clone, Default)]
pub(crate) struct Headroom {
    /// The points that were there when it was looked.
    points: Vec<u64>,
    looked: Moment,
    bytes: u64,
    /// When points go by themselves, if that was looked at and any do.
    comes: Option<Option<Comes>>,
}

/// An alert names what went for room, up to this many bytes; the audit log has all of it.
const MOST_SAID: usize = 400;

/// What the oldest points would free is not looked at again before this, while the points are the same ones.
const LOOK_AGAIN_MS: i64 = 60_000;

impl Retention {
    /// Room for `bytes` that are about to arrive, none of it taken yet. Where the oldest points go at a limit, a store may
    /// grow beyond its own limit and its account's quota by what they will free at the commit: nothing goes before that.
    pub(crate) fn room_for(&self, line: &WorkstationLine, store: &Store, bytes: u64, purpose: Purpose) -> Result<Room> {
        let room = self.room(line, purpose, 0)?;
        let Err(full) = room.claim.check(bytes) else { return Ok(room) };
        let is_own = matches!(room.levels[full.budget].bound, LimitKind::StoreLimit | LimitKind::Quota);
        let headroom = if is_own { self.headroom(line, store)? } else { 0 };
        let more = self.room(line, purpose, headroom)?;
        match more.claim.check(bytes) {
            Ok(()) => Ok(more),
            Err(full) => Err(self.with_what_comes(line, store, more.refusal(bytes, full))),
        }
    }

    /// Adds to a refusal when points give room back by themselves, and how much. That is looked at as seldom as the headroom is.
    fn with_what_comes(&self, line: &WorkstationLine, store: &Store, mut refusal: ServiceError) -> ServiceError {
        if let ServiceError::NoRoom(no_room) = &mut refusal {
            match self.what_comes(line, store) {
                Ok(comes) => no_room.comes = comes,
                Err(error) => tracing::warn!(%error, workstation = line.workstation.name, "looking when room comes"),
            }
        }
        refusal
    }

    fn what_comes(&self, line: &WorkstationLine, store: &Store) -> Result<Option<Comes>> {
        let (points, now) = (store.points(), self.clock.now());
        let known = self.lock_headroom().get(&*line.store.id).cloned().unwrap_or_default();
        if known.points == points && (0..LOOK_AGAIN_MS).contains(&(now - known.looked)) && known.comes.is_some() {
            return Ok(known.comes.flatten());
        }
        let comes = match self.next_to_go(line)? {
            Some((at, going)) => Some(Comes { at, bytes: freed_by(store, &going)? }),
            None => None,
        };
        let bytes = if known.points == points { known.bytes } else { 0 };
        let looked = Headroom { points, looked: now, bytes, comes: Some(comes) };
        self.lock_headroom().insert(line.store.id.0.clone(), looked);
        Ok(comes)
    }

    fn room(&self, line: &WorkstationLine, purpose: Purpose, headroom: u64) -> Result<Room> {
        self.media.check(&place(&line.destination))?;
        let levels = self.storage.levels(line)?;
        let budgets = levels.iter().map(|(counted, level)| counted.budget(level, purpose, headroom)).collect();
        let names = Names {
            workstation: line.workstation.name.clone(),
            login: line.account.login.clone(),
            destination: line.destination.name.clone(),
        };
        Ok(Room { claim: self.media.claim(budgets), levels: levels.into_iter().map(|(_, level)| level).collect(), names })
    }

    /// What the points that may go for room would free.
    fn headroom(&self, line: &WorkstationLine, store: &Store) -> Result<u64> {
        let points = store.points();
        let now = self.clock.now();
        let known = self.lock_headroom().get(&*line.store.id).cloned().unwrap_or_default();
        if known.points == points && (0..LOOK_AGAIN_MS).contains(&(now - known.looked)) {
            return Ok(known.bytes);
        }
        let may_go = self.may_go_for_room(line, store)?;
        let bytes = freed_by(store, &may_go)?;
        self.lock_headroom().insert(line.store.id.0.clone(), Headroom { points, looked: now, bytes, comes: None });
        Ok(bytes)
    }

    fn lock_headroom(&self) -> MutexGuard<'_, BTreeMap<ImageStoreId, Headroom>> {
        self.headroom.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn may_go_for_room(&self, line: &WorkstationLine, store: &Store) -> Result<Vec<u64>> {
        if line.destination.at_limit.0 == AtLimit::Stop || thinning::forgot_its_run(line, store) {
            return Ok(Vec::new());
        }
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        let mut may_go = expendable(line, &self.storage.point_rows(line)?, &self.storage.promise(line)?, self.clock.now());
        may_go.retain(|sequence| on_media.contains(sequence));
        Ok(may_go)
    }

    /// Which points have to go so that a store fits its limits once its run is committed; refused when all that may go would
    /// not be enough. Nothing goes yet.
    pub(crate) fn room_to_make(&self, line: &WorkstationLine, store: &Store) -> Result<BTreeSet<u64>> {
        if line.destination.at_limit.0 == AtLimit::Stop {
            return Ok(BTreeSet::new());
        }
        let own = self.storage.levels(line)?.into_iter().map(|(_, level)| level);
        let own: Vec<Usage> = own.filter(|level| matches!(level.bound, LimitKind::StoreLimit | LimitKind::Quota)).collect();
        let beyond =
            |limit: fn(&Usage) -> u64| own.iter().map(|level| level.used.saturating_sub(limit(level))).max().unwrap_or(0);
        let (needed, wished) = (beyond(|level| level.limit), beyond(Usage::limit_for_content));
        if wished == 0 {
            return Ok(BTreeSet::new());
        }
        let may_go = self.may_go_for_room(line, store)?;
        // A little more than has to be, so that the next run finds room as well.
        let enough = match how_many_free(store, &may_go, wished)? {
            Some(enough) => Some(enough),
            None if needed == 0 => Some(0),
            None => how_many_free(store, &may_go, needed)?,
        };
        let Some(enough) = enough else { return Err(self.no_room_to_make(line, &own, needed)) };
        Ok(may_go[..enough].iter().copied().collect())
    }

    fn no_room_to_make(&self, line: &WorkstationLine, own: &[Usage], wanted: u64) -> ServiceError {
        let fullest = own.iter().copied().max_by_key(|level| level.used.saturating_sub(level.limit));
        let level = fullest.unwrap_or(Usage { bound: LimitKind::StoreLimit, limit: 0, used: 0 });
        let of = if level.bound == LimitKind::Quota { &line.account.login } else { &line.workstation.name };
        ServiceError::NoRoom(Box::new(NoRoom { level, of: of.clone(), wanted, left: 0, comes: None }))
    }

    /// Lets points go to make room, now that the run is committed for which it is needed. It is on record and an alert.
    pub(crate) fn make_room(&self, line: &WorkstationLine, store: &Store, going: &BTreeSet<u64>) -> Result<()> {
        if going.is_empty() {
            return Ok(());
        }
        let mut said = String::new();
        let gone = self.expire(line, store, thinning::ROOM, |line, rows, promise| {
            let may_go: BTreeSet<u64> = expendable(line, rows, promise, self.clock.now()).into_iter().collect();
            let gone = going.intersection(&may_go).copied().collect();
            said = thinning::said_of(line, rows, &gone);
            gone
        })?;
        if gone.is_empty() {
            return Ok(());
        }
        let before = line.store.room_made.as_ref().map(|made| &made.what).filter(|before| before.len() < MOST_SAID);
        let said = before.map_or_else(|| said.clone(), |before| format!("{before}; {said}"));
        self.records.write(|on| {
            Ok::<_, ServiceError>(StoreRow::set_room_made(&line.store.id, Noted { at: self.clock.now(), what: said }, on)?)
        })?;
        self.lock_headroom().remove(&*line.store.id);
        // Room is wanted now: nothing that is not needed stays.
        let compacted = store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: false }, &mut |_| true)?;
        tracing::info!(workstation = line.workstation.name, points = gone.len(), freed = compacted.freed, "made room at a limit");
        Ok(())
    }
}

/// Points that may go for room, oldest first. What a person removed waits its time, also now.
fn expendable(line: &WorkstationLine, rows: &[PointRow], promise: &Promise, now: Moment) -> Vec<u64> {
    if line.store.hold.is_some() {
        return Vec::new();
    }
    let waiting: BTreeSet<u64> = rows.iter().filter(|row| row.removal.is_some()).map(|row| row.sequence.get()).collect();
    // A lost one frees nothing, and stands in for no other.
    let there: Vec<PointRow> = rows.iter().filter(|row| !row.lost).cloned().collect();
    let mut may_go = promise.expendable(&points::facts(line, &there), now.ms());
    may_go.retain(|sequence| !waiting.contains(sequence));
    may_go
}

/// Bytes that are freed when points are removed. Where needs are damaged that is unknown, and those points make no room.
fn freed_by(store: &Store, points: &[u64]) -> Result<u64> {
    if points.is_empty() {
        return Ok(0);
    }
    match store.room_freed_by(&points.iter().copied().collect()) {
        Ok(freed) => Ok(freed.bytes),
        Err(error @ StoreError::Medium { .. }) => Err(error.into()),
        Err(_) => Ok(0),
    }
}

/// How many of `may_go`, from the front, free `wanted` bytes; `None` when all together do not.
fn how_many_free(store: &Store, may_go: &[u64], wanted: u64) -> Result<Option<usize>> {
    let freed_by = |n: usize| freed_by(store, &may_go[..n]);
    if may_go.is_empty() || freed_by(may_go.len())? < wanted {
        return Ok(None);
    }
    // `low` is not enough, `high` is.
    let (mut low, mut high) = (0, may_go.len());
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        if freed_by(middle)? < wanted { low = middle } else { high = middle }
    }
    Ok(Some(high))
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::retention::StoreSettings;

    use super::*;
    use crate::shared::Seen;
    use crate::shared::testing::machine::office_with_points;

    #[test]
    fn at_its_limit_a_workstation_is_refused_by_name_and_what_it_has_stays() {
        let (office, mut machine) = office_with_points([b"one"]);
        let limit = StoreSettings { limit: Some(100_000), retention: None };
        office.services.retention.set_store(&office.ingrid, machine.store(), &limit, &Seen::Anything).expect("set");
        machine.begin(&office).expect("a run begins at the limit");
        let noise: Vec<u8> = (0..200_000_u32).flat_map(|i| blake3::hash(&i.to_le_bytes()).as_bytes()[..1].to_vec()).collect();
        let refused = machine.send(&office, &noise).expect_err("over the limit");
        let ServiceError::NoRoom(no_room) = refused else { panic!("{refused:?}") };
        assert_eq!((no_room.of.as_str(), no_room.level.bound), ("front desk", LimitKind::StoreLimit));
        assert!(no_room.left < 100_000 && no_room.wanted > 100_000);
        let points = office.services.backups.points(&office.ingrid, &machine.enrolled.workstation, &Default::default());
        assert_eq!(points.expect("listed").items.len(), 1);
    }
}
