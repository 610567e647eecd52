//! Workstations and their image stores.

use super::history::{PointRow, RunRow};
use super::people::AccountRow;
use super::places::DestinationRow;
use super::schema::{accounts, destinations, points, runs, stores, workstations};
use super::{Connection, Rows, Written};
use diesel::prelude::*;
use jetfrost_wire::retention::Retention;

macro_rules! lines {
    () => {
        workstations::table
            .inner_join(accounts::table)
            .inner_join(stores::table.inner_join(destinations::table))
            .left_join(
                points::table.on(points::store_id.eq(stores::id).and(points::sequence.nullable().eq(stores::latest_sequence))),
            )
            .left_join(runs::table.on(runs::number.nullable().eq(workstations::latest_run)))
            .select((
                WorkstationRow::as_select(),
                AccountRow::as_select(),
                StoreRow::as_select(),
                DestinationRow::as_select(),
                Option::<PointRow>::as_select(),
                Option::<RunRow>::as_select(),
            ))
    };
}

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = workstations, treat_none_as_null = true)]
pub(crate) struct WorkstationRow {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) name_key: String,
    pub(crate) account_id: String,
    pub(crate) credential_hash: Vec<u8>,
    pub(crate) platform: String,
    pub(crate) client_version: String,
    pub(crate) disk_bytes: Option<i64>,
    pub(crate) rhythm_seconds: i64,
    pub(crate) enrolled: i64,
    pub(crate) last_seen: Option<i64>,
    pub(crate) latest_run: Option<i64>,
    /// Why no machine has its credential.
    pub(crate) rest: Option<String>,
    pub(crate) rest_since: Option<i64>,
    pub(crate) rest_by: Option<String>,
}

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = stores, treat_none_as_null = true)]
pub(crate) struct StoreRow {
    pub(crate) id: String,
    pub(crate) workstation_id: String,
    pub(crate) destination_id: String,
    pub(crate) points: i64,
    pub(crate) latest_sequence: Option<i64>,
    pub(crate) created: i64,
    pub(crate) size_limit: Option<i64>,
    pub(crate) retention: Option<Written<Retention>>,
    /// Why a hold is on it.
    pub(crate) held: Option<String>,
    pub(crate) held_by: Option<String>,
    /// When it goes for good.
    pub(crate) removal_ends: Option<i64>,
    pub(crate) removal_by: Option<String>,
    pub(crate) gone: Option<i64>,
    /// Whether room is still to be given back.
    pub(crate) untidy: bool,
    /// When it was last read whole.
    pub(crate) scrubbed: Option<i64>,
    /// Where an interrupted scrub goes on.
    pub(crate) scrub_after: Option<String>,
    /// What the last scrub found, as JSON.
    pub(crate) findings: Option<String>,
    /// Chunks that points need and that are not there, when it was last looked.
    pub(crate) lost_chunks: i64,
    /// Whether only who has a secret reads it.
    pub(crate) encrypted: bool,
    /// When a drill last brought everything back, and from which point.
    pub(crate) drilled: Option<i64>,
    pub(crate) drilled_point: Option<i64>,
    /// When the latest drill did not.
    pub(crate) drill_failed: Option<i64>,
    /// When points last went to make room at a limit, and which.
    pub(crate) room_made: Option<i64>,
    pub(crate) room_made_of: Option<String>,
    /// When its own terms were last made shorter, and how.
    pub(crate) shortened: Option<i64>,
    pub(crate) shortened_how: Option<String>,
    /// Points that were committed and whose files are not there, when it was last looked.
    pub(crate) lost_points: i64,
    /// Whether its key slots are on record.
    pub(crate) slots_noted: bool,
    /// What it occupied when it was last looked, in bytes.
    pub(crate) occupied: i64,
}

/// All that a line of the list shows.
#[derive(Debug, Clone)]
pub(crate) struct WorkstationLine {
    pub(crate) workstation: WorkstationRow,
    pub(crate) account: AccountRow,
    pub(crate) store: StoreRow,
    pub(crate) destination: DestinationRow,
    pub(crate) latest_point: Option<PointRow>,
    pub(crate) latest_run: Option<RunRow>,
}

impl WorkstationRow {
    pub(crate) const RETIRED: &str = "retired";
    pub(crate) const UNCLAIMED: &str = "unclaimed";

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    /// Ends its credential: no machine is this workstation any more. Its backups stay.
    pub(crate) fn cut_off(mut self, rest: &str, at: i64, by: &str, on: &mut Connection) -> Rows<()> {
        self.credential_hash = format!("{} ({rest})", self.id).into_bytes();
        self.rest = Some(rest.into());
        self.rest_since = Some(at);
        self.rest_by = Some(by.into());
        self.update(on)
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(workstations::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_credential(hash: &[u8], on: &mut Connection) -> Rows<Option<(Self, AccountRow)>> {
        workstations::table
            .inner_join(accounts::table)
            .filter(workstations::credential_hash.eq(hash))
            .select((Self::as_select(), AccountRow::as_select()))
            .get_result(on)
            .optional()
    }

    pub(crate) fn is_name_taken(key: &str, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(workstations::table.filter(workstations::name_key.eq(key)))).get_result(on)
    }

    pub(crate) fn set_seen(id: &str, at: i64, version: &str, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id))
            .set((workstations::last_seen.eq(at), workstations::client_version.eq(version)))
            .execute(on)
            .map(drop)
    }

    /// Ends a workstation whose store is gone: its credential opens nothing any more, its name is free again.
    pub(crate) fn retire(id: &str, on: &mut Connection) -> Rows<()> {
        let gone = format!("{id} (gone)");
        diesel::update(workstations::table.find(id))
            .set((workstations::name_key.eq(&gone), workstations::credential_hash.eq(gone.as_bytes())))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_latest_run(id: &str, run: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id)).set(workstations::latest_run.eq(run)).execute(on).map(drop)
    }
}

impl StoreRow {
    /// The image stores of a destination.
    pub(crate) fn on_destination(id: &str, on: &mut Connection) -> Rows<Vec<Self>> {
        let there = stores::destination_id.eq(id).and(stores::gone.is_null());
        stores::table.filter(there).select(Self::as_select()).load(on)
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(stores::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    pub(crate) fn exists(id: &str, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(stores::table.find(id))).get_result(on)
    }

    /// How many image stores an account has on a destination.
    pub(crate) fn count(account: &str, destination: &str, on: &mut Connection) -> Rows<i64> {
        stores::table
            .inner_join(workstations::table)
            .filter(workstations::account_id.eq(account).and(stores::destination_id.eq(destination)).and(stores::gone.is_null()))
            .count()
            .get_result(on)
    }

    pub(crate) fn set_occupied(id: &str, bytes: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::occupied.eq(bytes)).execute(on).map(drop)
    }

    pub(crate) fn set_lost_points(id: &str, points: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::lost_points.eq(points)).execute(on).map(drop)
    }

    pub(crate) fn set_room_made(id: &str, at: i64, of: &str, on: &mut Connection) -> Rows<()> {
        let made = (stores::room_made.eq(at), stores::room_made_of.eq(of));
        diesel::update(stores::table.find(id)).set(made).execute(on).map(drop)
    }

    pub(crate) fn set_uncompacted(id: &str, untidy: bool, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::untidy.eq(untidy)).execute(on).map(drop)
    }

    /// Notes how far a scrub is that was interrupted.
    pub(crate) fn set_scrub_after(id: &str, after: Option<&str>, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::scrub_after.eq(after)).execute(on).map(drop)
    }

    /// Notes what a whole scrub came to.
    pub(crate) fn set_scrubbed(id: &str, at: i64, findings: Option<&str>, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id))
            .set((stores::scrubbed.eq(at), stores::findings.eq(findings), stores::scrub_after.eq(None::<String>)))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_lost(id: &str, chunks: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::lost_chunks.eq(chunks)).execute(on).map(drop)
    }

    /// Notes that a drill brought everything back.
    pub(crate) fn set_drilled(id: &str, at: i64, point: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id))
            .set((stores::drilled.eq(at), stores::drilled_point.eq(point), stores::drill_failed.eq(None::<i64>)))
            .execute(on)
            .map(drop)
    }

    /// Notes that a drill did not.
    pub(crate) fn set_drill_failed(id: &str, at: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::drill_failed.eq(at)).execute(on).map(drop)
    }

    /// How many image stores passed a drill.
    pub(crate) fn drilled(on: &mut Connection) -> Rows<i64> {
        stores::table.filter(stores::gone.is_null().and(stores::drilled.is_not_null())).count().get_result(on)
    }

    /// Counts `n` points less.
    pub(crate) fn take_points(id: &str, n: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id)).set(stores::points.eq(stores::points - n)).execute(on).map(drop)
    }

    pub(crate) fn add_point(id: &str, sequence: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id))
            .set((stores::points.eq(stores::points + 1), stores::latest_sequence.eq(sequence)))
            .execute(on)
            .map(drop)
    }
}

impl WorkstationLine {
    /// By name, after the key `after`; of one account only when `owner` is given.
    pub(crate) fn list(owner: Option<&str>, after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let mut query = lines!()
            .filter(workstations::name_key.gt(after).and(stores::gone.is_null()))
            .order(workstations::name_key)
            .limit(most as i64)
            .into_boxed();
        if let Some(owner) = owner {
            query = query.filter(workstations::account_id.eq(owner.to_owned()));
        }
        Ok(query.load(on)?.into_iter().map(Self::from_row).collect())
    }

    /// Those whose image store is on a destination, by name.
    pub(crate) fn on_destination(id: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let there = stores::destination_id.eq(id.to_owned()).and(stores::gone.is_null());
        let rows = lines!().filter(there).order(workstations::name_key).limit(most as i64).load(on)?;
        Ok(rows.into_iter().map(Self::from_row).collect())
    }

    /// The one with a name.
    pub(crate) fn by_name(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let known = workstations::name_key.eq(key.to_owned()).and(stores::gone.is_null());
        Ok(lines!().filter(known).get_result(on).optional()?.map(Self::from_row))
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        Ok(lines!().filter(workstations::id.eq(id).and(stores::gone.is_null())).get_result(on).optional()?.map(Self::from_row))
    }

    pub(crate) fn by_store(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        Ok(lines!().filter(stores::id.eq(id).and(stores::gone.is_null())).get_result(on).optional()?.map(Self::from_row))
    }

    pub(crate) fn by_store_also_gone(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        Ok(lines!().filter(stores::id.eq(id)).get_result(on).optional()?.map(Self::from_row))
    }

    fn from_row(row: (WorkstationRow, AccountRow, StoreRow, DestinationRow, Option<PointRow>, Option<RunRow>)) -> Self {
        let (workstation, account, store, destination, latest_point, latest_run) = row;
        Self { workstation, account, store, destination, latest_point, latest_run }
    }
}
