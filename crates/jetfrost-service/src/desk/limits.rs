//! Limits: what may still be stored, and what is done when one is met.

use std::collections::BTreeSet;
use std::sync::PoisonError;

use jetfrost_image::StoreId;
use jetfrost_image::store::{Store, Tidying};
use jetfrost_office::retention::expendable;
use jetfrost_office::room::{Bound, Level};
use jetfrost_wire::keeping::AtLimit;

use super::convert::{self, from_db};
use super::stores::Upload;
use super::{Desk, DeskError, NoRoom, Result, place, thinning};
use crate::records::{DestinationRow, WorkstationLine};
use crate::shelf::{Budget, Claim, CountsFor, Place, ShelfError, volume_of};

/// An account's workstations are looked at together.
const ALL: usize = 10_000;

/// What arriving bytes are for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Purpose {
    /// Chunks: they leave the margin free.
    Content,
    /// The end of a point: it may use the margin.
    Closing,
}

/// Image stores and what they occupy.
struct Stores(Vec<(StoreId, u64)>);

impl Stores {
    fn level(self, what: CountsFor, bound: Bound, limit: u64) -> (Counted, Level) {
        let used = self.0.iter().map(|(_, used)| used).sum();
        let stores = self.0.into_iter().map(|(id, _)| id).collect();
        (Counted { what, stores }, Level { bound, limit, used })
    }
}

/// What is counted for a limit.
pub(super) struct Counted {
    what: CountsFor,
    stores: Vec<StoreId>,
}

impl Counted {
    fn budget(&self, level: &Level, purpose: Purpose) -> Budget {
        Budget {
            what: self.what.clone(),
            limit: match purpose {
                Purpose::Content => level.limit_for_content(),
                Purpose::Closing => level.limit,
            },
            stores: self.stores.clone(),
            used_besides: if self.stores.is_empty() { level.used } else { 0 },
        }
    }
}

impl Desk {
    /// Announces `bytes` that are about to be written, if every limit leaves room for them. Where that was chosen, the
    /// workstation's oldest points go to make room.
    pub(super) fn claim(&self, upload: &Upload, bytes: u64, purpose: Purpose) -> Result<Claim<'_>> {
        let refusal = match self.try_claim(&upload.line, bytes, purpose) {
            Err(DeskError::NoRoom(refusal)) => refusal,
            other => return other,
        };
        if convert::at_limit(&upload.line.destination.at_limit) == AtLimit::Stop {
            return Err(DeskError::NoRoom(refusal));
        }
        let _alone = self.making_room.lock().unwrap_or_else(PoisonError::into_inner);
        // Another upload may have made room meanwhile.
        let refusal = match self.try_claim(&upload.line, bytes, purpose) {
            Err(DeskError::NoRoom(refusal)) => refusal,
            other => return other,
        };
        if self.let_oldest_go(&upload.line, &upload.store, &refusal)? {
            self.try_claim(&upload.line, bytes, purpose)
        } else {
            Err(DeskError::NoRoom(refusal))
        }
    }

    fn try_claim(&self, line: &WorkstationLine, bytes: u64, purpose: Purpose) -> Result<Claim<'_>> {
        self.shelf.check(&place(&line.destination))?;
        let levels = self.levels(line)?;
        let budgets: Vec<Budget> = levels.iter().map(|(counted, level)| counted.budget(level, purpose)).collect();
        self.shelf.claim(bytes, &budgets).map_err(|(i, left)| {
            let level = levels[i].1;
            let of = match level.bound {
                Bound::StoreLimit => &line.workstation.name,
                Bound::Quota => &line.account.login,
                Bound::Capacity | Bound::Reserve => &line.destination.name,
            };
            DeskError::NoRoom(Box::new(NoRoom { level, of: of.clone(), wanted: bytes, left }))
        })
    }

    /// All limits that bind a workstation's store.
    fn levels(&self, line: &WorkstationLine) -> Result<Vec<(Counted, Level)>> {
        let mut levels = Vec::new();
        if let Some(limit) = line.store.size_limit.map(from_db) {
            let stores = self.look_at(&place(&line.destination), std::slice::from_ref(&line.store.id));
            levels.push(stores.level(CountsFor::Store(line.store.id.clone()), Bound::StoreLimit, limit));
        }
        if let Some(limit) = line.account.quota.map(from_db) {
            let stores = self.stores_of_account(&line.account.id)?;
            levels.push(stores.level(CountsFor::Account(line.account.id.clone()), Bound::Quota, limit));
        }
        levels.extend(self.levels_of_destination(&line.destination)?);
        Ok(levels)
    }

    /// The limits of a destination.
    pub(super) fn levels_of_destination(&self, row: &DestinationRow) -> Result<Vec<(Counted, Level)>> {
        let here = place(row);
        let volume = volume_of(&here.directory).map_err(|source| ShelfError::Io { doing: "examining the volume", source })?;
        let level = Level::of_volume(volume.size, volume.free, from_db(row.reserve));
        let what = CountsFor::Volume(row.id.clone());
        let mut levels = vec![(Counted { what, stores: Vec::new() }, level)];
        if let Some(limit) = row.capacity.map(from_db) {
            let ids = self.records.read(|on| Ok::<_, DeskError>(row.stores(on)?))?;
            let stores = self.look_at(&here, &ids);
            levels.push(stores.level(CountsFor::Destination(row.id.clone()), Bound::Capacity, limit));
        }
        Ok(levels)
    }

    /// Looks what image stores occupy; those that cannot be opened count nothing. They are reported where they are
    /// looked at, and must not hide the others.
    fn look_at(&self, place: &Place, stores: &[String]) -> Stores {
        let ids = stores.iter().filter_map(|id| id.parse::<StoreId>().ok());
        Stores(ids.filter_map(|id| Some((id, self.shelf.used(place, id).ok()?))).collect())
    }

    fn stores_of_account(&self, account: &str) -> Result<Stores> {
        let lines = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(Some(account), "", ALL, on)?))?;
        let of = |line: &WorkstationLine| self.look_at(&place(&line.destination), std::slice::from_ref(&line.store.id)).0;
        Ok(Stores(lines.iter().flat_map(of).collect()))
    }

    /// Bytes that image stores occupy together.
    pub(super) fn used_of(&self, place: &Place, stores: &[String]) -> u64 {
        self.look_at(place, stores).0.iter().map(|(_, used)| used).sum()
    }

    /// Lets as many of the oldest points go as make enough room, as far as the rule allows. False, and nothing gone,
    /// when all that may go would not be enough.
    fn let_oldest_go(&self, line: &WorkstationLine, store: &Store, refusal: &NoRoom) -> Result<bool> {
        if line.store.held.is_some() || thinning::forgot_its_run(line, store) {
            return Ok(false);
        }
        let points = self.point_rows(line)?;
        // What a person removed waits its time, also now.
        let waiting: BTreeSet<u64> = points.iter().filter(|p| p.leaves.is_some()).map(|p| from_db(p.sequence)).collect();
        let rule = thinning::rule(line);
        let mut may_go = expendable(&thinning::facts(&points), rule.as_ref(), self.now());
        may_go.retain(|sequence| !waiting.contains(sequence));
        // A little more than is needed now, so that the next upload need not do the same again.
        let wanted = refusal.wanted - refusal.left.min(refusal.wanted) + refusal.level.limit / 50;
        let Some(enough) = how_many_free(store, &may_go, wanted)? else { return Ok(false) };
        let going: BTreeSet<u64> = may_go[..enough].iter().copied().collect();
        self.take_points(line, store, &going, "a limit was reached")?;
        // Room is wanted now: nothing that is not needed stays.
        let tidied = store.tidy(&Tidying { most_dead_percent: 0, drop_unfinished: false }, &mut |_| true)?;
        tracing::info!(workstation = line.workstation.name, points = going.len(), freed = tidied.freed, "made room at a limit");
        Ok(true)
    }
}

/// How many of `may_go`, from the front, free `wanted` bytes; `None` when all together do not.
fn how_many_free(store: &Store, may_go: &[u64], wanted: u64) -> Result<Option<usize>> {
    let freed_by = |n: usize| store.room_freed_by(&may_go[..n].iter().copied().collect()).map(|freed| freed.bytes);
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
