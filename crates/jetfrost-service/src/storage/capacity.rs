//! What is in use, and the limits that it counts for.

use jetfrost_image::StoreId;
use jetfrost_office::capacity::{LimitKind, Usage};

use crate::media::{Budget, CountsFor, MediaError, Place, volume_of};
use crate::records::{AccountRow, Count, DestinationRow, StoreRow, WorkstationLine};
use crate::shared::{Result, ServiceError, place};
use crate::storage::Storage;
use jetfrost_types::AccountId;

/// What arriving bytes are for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// Chunks: they leave the margin free.
    Content,
    /// The end of a point: it may use the margin.
    Closing,
}

/// Image stores and what they occupy.
struct Stores(Vec<(StoreId, u64)>);

impl Stores {
    fn level(self, what: CountsFor, bound: LimitKind, limit: u64) -> (Counted, Usage) {
        let used = self.0.iter().map(|(_, used)| used).sum();
        let stores = self.0.into_iter().map(|(id, _)| id).collect();
        (Counted { what, stores }, Usage { bound, limit, used })
    }
}

/// What is counted for a limit.
pub(crate) struct Counted {
    what: CountsFor,
    stores: Vec<StoreId>,
}

impl Counted {
    /// `headroom` is what old points will free of the store's own limits.
    pub(crate) fn budget(&self, level: &Usage, purpose: Purpose, headroom: u64) -> Budget {
        let limit = match purpose {
            Purpose::Content => level.limit_for_content(),
            Purpose::Closing => level.limit,
        };
        let is_own = matches!(level.bound, LimitKind::StoreLimit | LimitKind::Quota);
        Budget {
            what: self.what.clone(),
            limit: if is_own { limit.saturating_add(headroom) } else { limit },
            stores: self.stores.clone(),
            used_besides: if self.stores.is_empty() { level.used } else { 0 },
        }
    }
}

impl Storage {
    /// All limits that bind a workstation's store.
    pub(crate) fn levels(&self, line: &WorkstationLine) -> Result<Vec<(Counted, Usage)>> {
        let mut levels = Vec::new();
        if let Some(limit) = line.store.size_limit.map(Count::get) {
            let stores = self.look_at(&place(&line.destination), std::slice::from_ref(&line.store));
            levels.push(stores.level(CountsFor::Store(line.store.id.0.clone()), LimitKind::StoreLimit, limit));
        }
        levels.extend(self.quota_of(&line.account)?);
        levels.extend(self.levels_of_destination(&line.destination)?);
        Ok(levels)
    }

    /// An account's quota, if it has one.
    pub(crate) fn quota_of(&self, account: &AccountRow) -> Result<Option<(Counted, Usage)>> {
        let Some(limit) = account.quota.map(Count::get) else { return Ok(None) };
        let stores = self.stores_of_account(&account.id)?;
        Ok(Some(stores.level(CountsFor::Account(account.id.0.clone()), LimitKind::Quota, limit)))
    }

    /// The limits of a destination.
    pub(crate) fn levels_of_destination(&self, row: &DestinationRow) -> Result<Vec<(Counted, Usage)>> {
        let here = place(row);
        let volume = volume_of(&here.directory).map_err(|source| MediaError::Io { doing: "examining the volume", source })?;
        let level = Usage::of_volume(volume.size, volume.free, row.reserve.get());
        let what = CountsFor::Volume(row.id.0.clone());
        let mut levels = vec![(Counted { what, stores: Vec::new() }, level)];
        if let Some(limit) = row.capacity.map(Count::get) {
            let rows = self.records.read(|on| Ok::<_, ServiceError>(StoreRow::on_destination(&row.id, on)?))?;
            let stores = self.look_at(&here, &rows);
            levels.push(stores.level(CountsFor::Destination(row.id.0.clone()), LimitKind::Capacity, limit));
        }
        Ok(levels)
    }

    /// Looks what image stores occupy. One whose destination is missing occupies what it did when it was last looked.
    fn look_at(&self, place: &Place, stores: &[StoreRow]) -> Stores {
        let used = |row: &StoreRow| {
            let id = row.id.as_str().parse::<StoreId>().ok()?;
            Some((id, self.media.used_or(place, id, row.occupied.get())))
        };
        Stores(stores.iter().filter_map(used).collect())
    }

    fn stores_of_account(&self, account: &AccountId) -> Result<Stores> {
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(Some(account), on)?))?;
        let of = |line: &WorkstationLine| self.look_at(&place(&line.destination), std::slice::from_ref(&line.store)).0;
        Ok(Stores(lines.iter().flat_map(of).collect()))
    }

    /// Bytes that image stores occupy together.
    pub(crate) fn used_of(&self, place: &Place, stores: &[StoreRow]) -> u64 {
        self.look_at(place, stores).0.iter().map(|(_, used)| used).sum()
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Limit;
    use jetfrost_wire::destination::{DestinationChange, DestinationState};

    use crate::shared::Seen;
    use crate::shared::testing::Office;

    #[test]
    fn a_destination_has_the_room_that_its_capacity_leaves_and_is_full_at_its_reserve() {
        let office = Office::open();
        let storage = &office.services.storage;
        let shelf = office.destination("shelf");
        let set = |change: DestinationChange| {
            storage.change_destination(&office.ingrid, &shelf.id, &change, &Seen::Anything).expect("set")
        };
        let limited = set(DestinationChange { capacity: Some(Limit::Bytes(5_000_000)), ..DestinationChange::default() });
        assert_eq!((limited.state, limited.used, limited.room), (DestinationState::Ready, Some(0), Some(5_000_000)));
        let reserved = set(DestinationChange { reserve: Some(1 << 60), ..DestinationChange::default() });
        assert_eq!((reserved.state, reserved.room), (DestinationState::Full, Some(0)));
    }
}
