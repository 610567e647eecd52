//! Workstations and their image stores.

use std::collections::HashMap;

use super::agents::AgentRow;
use super::diagnoses::{DiagnosisRow, Ended, FormerCredentialRow, ProofRow};
use super::history::{PointRow, RunRow, Suspects};
use super::joint::{
    Asked, AtRest, Noted, OfficePause, Rest, StoreHold, StoreRemoval, StoreRoomMade, StoreShortened, WorkstationRest,
};
use super::people::{AccountRow, GroupRow};
use super::places::DestinationRow;
use super::schema::{accounts, agents, destinations, points, proofs, runs, stores, workstations};
use super::{Connection, Count, Id, InJson, Rows, Written};
use diesel::prelude::*;
use jetfrost_office::schedule::proof_due;
use jetfrost_types::{AccountId, DestinationId, ImageStoreId, Schedule, ScheduleOrigin, ScheduleSettings, WorkstationId};
use jetfrost_wire::retention::Retention;

use crate::clock::Moment;

macro_rules! lines {
    () => {
        workstations::table
            .inner_join(accounts::table)
            .inner_join(stores::table.inner_join(destinations::table).left_join(proofs::table))
            .left_join(
                points::table.on(points::store_id.eq(stores::id).and(points::sequence.nullable().eq(stores::latest_sequence))),
            )
            .left_join(runs::table.on(runs::number.nullable().eq(workstations::latest_run)))
            .left_join(agents::table)
            .select((
                WorkstationRow::as_select(),
                AccountRow::as_select(),
                StoreRow::as_select(),
                DestinationRow::as_select(),
                Option::<PointRow>::as_select(),
                Option::<RunRow>::as_select(),
                Option::<AgentRow>::as_select(),
                Option::<ProofRow>::as_select(),
            ))
    };
}

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = workstations, treat_none_as_null = true)]
pub(crate) struct WorkstationRow {
    pub(crate) id: Id<WorkstationId>,
    pub(crate) name: String,
    pub(crate) name_key: String,
    pub(crate) account_id: Id<AccountId>,
    pub(crate) credential_hash: Vec<u8>,
    pub(crate) platform: String,
    pub(crate) client_version: String,
    pub(crate) disk_bytes: Option<Count>,
    pub(crate) enrolled: Moment,
    pub(crate) last_seen: Option<Moment>,
    pub(crate) latest_run: Option<i64>,
    #[diesel(embed)]
    pub(crate) rest: WorkstationRest,
    /// What is set of its own schedule.
    pub(crate) schedule: InJson<ScheduleSettings>,
    /// How many of its runs failed since the last complete one.
    pub(crate) failures: Count,
    #[diesel(embed)]
    pub(crate) asked: Asked,
    #[diesel(embed)]
    pub(crate) paused: OfficePause,
}

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = stores, treat_none_as_null = true)]
pub(crate) struct StoreRow {
    pub(crate) id: Id<ImageStoreId>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) destination_id: Id<DestinationId>,
    pub(crate) points: Count,
    pub(crate) latest_sequence: Option<Count>,
    pub(crate) created: Moment,
    pub(crate) size_limit: Option<Count>,
    pub(crate) retention: Option<Written<Retention>>,
    #[diesel(embed)]
    pub(crate) hold: StoreHold,
    #[diesel(embed)]
    pub(crate) removal: StoreRemoval,
    pub(crate) gone: Option<Moment>,
    /// Whether room is still to be given back.
    pub(crate) untidy: bool,
    /// When it was last read whole.
    pub(crate) scrubbed: Option<Moment>,
    /// Where an interrupted scrub goes on.
    pub(crate) scrub_after: Option<String>,
    /// What the last scrub found, as JSON.
    pub(crate) findings: Option<String>,
    /// Chunks that points need and that are not there, when it was last looked.
    pub(crate) lost_chunks: Count,
    /// Whether only who has a secret reads it.
    pub(crate) encrypted: bool,
    /// When a drill last brought everything back, and from which point.
    pub(crate) drilled: Option<Moment>,
    pub(crate) drilled_point: Option<Count>,
    /// When the latest drill did not.
    pub(crate) drill_failed: Option<Moment>,
    #[diesel(embed)]
    pub(crate) room_made: StoreRoomMade,
    #[diesel(embed)]
    pub(crate) shortened: StoreShortened,
    /// Points that were committed and whose files are not there, when it was last looked.
    pub(crate) lost_points: Count,
    /// Whether its key slots are on record.
    pub(crate) slots_noted: bool,
    /// What it occupied when it was last looked, in bytes.
    pub(crate) occupied: Count,
}

/// What [`lines`] selects.
type Joined =
    (WorkstationRow, AccountRow, StoreRow, DestinationRow, Option<PointRow>, Option<RunRow>, Option<AgentRow>, Option<ProofRow>);

/// All that a line of the list shows.
#[derive(Debug, Clone)]
pub(crate) struct WorkstationLine {
    pub(crate) workstation: WorkstationRow,
    pub(crate) account: AccountRow,
    pub(crate) store: StoreRow,
    pub(crate) destination: DestinationRow,
    pub(crate) latest_point: Option<PointRow>,
    pub(crate) latest_run: Option<RunRow>,
    pub(crate) agent: Option<AgentRow>,
    pub(crate) proof: Option<ProofRow>,
    /// What its account's groups set of its schedule, by their names.
    pub(crate) of_groups: Vec<(String, ScheduleSettings)>,
    /// What is suspect of its image store.
    pub(crate) suspect: Option<Suspects>,
}

impl WorkstationRow {
    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    /// Ends its credential: no machine is this workstation any more. Its backups stay.
    pub(crate) fn cut_off(mut self, at: Moment, by: &str, on: &mut Connection) -> Rows<()> {
        self.end_credential(Ended::Retired, at, on)?;
        self.credential_hash = Self::no_credential(&self.id, Rest::Retired);
        self.rest = AtRest { why: Rest::Retired, since: at, by: Some(by.into()) }.into();
        AgentRow::forget(&self.id, on)?;
        DiagnosisRow::forget(&self.id, on)?;
        self.update(on)
    }

    /// Remembers that its credential is over, and why: whoever still has it is told. Another is to take its place.
    pub(crate) fn end_credential(&self, ended: Ended, at: Moment, on: &mut Connection) -> Rows<()> {
        if self.rest.is_some() {
            // No machine has one, and why is known already.
            return Ok(());
        }
        let former =
            FormerCredentialRow { hash: self.credential_hash.clone(), workstation_id: self.id.clone(), ended: ended.into(), at };
        former.put(on)
    }

    /// What stands where no credential is: no credential hashes to it.
    pub(crate) fn no_credential(id: &WorkstationId, why: Rest) -> Vec<u8> {
        format!("{id} ({})", why.word()).into_bytes()
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

    pub(crate) fn set_seen(id: &WorkstationId, at: Moment, version: &str, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id.as_str()))
            .set((workstations::last_seen.eq(at), workstations::client_version.eq(version)))
            .execute(on)
            .map(drop)
    }

    /// Ends a workstation whose store is gone: its credential opens nothing any more, its name is free again.
    pub(crate) fn retire(&self, at: Moment, on: &mut Connection) -> Rows<()> {
        self.end_credential(Ended::Removed, at, on)?;
        let gone = format!("{} (gone)", self.id);
        diesel::update(workstations::table.find(&self.id))
            .set((workstations::name_key.eq(&gone), workstations::credential_hash.eq(gone.as_bytes())))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_schedule(id: &WorkstationId, to: InJson<ScheduleSettings>, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id.as_str())).set(workstations::schedule.eq(to)).execute(on).map(drop)
    }

    /// Notes that another run failed.
    pub(crate) fn count_failure(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        let counted = workstations::failures.eq(workstations::failures + 1);
        diesel::update(workstations::table.find(id.as_str())).set(counted).execute(on).map(drop)
    }

    /// Notes that a run was complete.
    pub(crate) fn forget_failures(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id.as_str())).set(workstations::failures.eq(0)).execute(on).map(drop)
    }

    /// What an administrator asked for begins.
    pub(crate) fn forget_asked(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id.as_str())).set(&Asked::default()).execute(on).map(drop)
    }

    pub(crate) fn set_latest_run(id: &WorkstationId, run: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(workstations::table.find(id.as_str())).set(workstations::latest_run.eq(run)).execute(on).map(drop)
    }
}

impl StoreRow {
    /// The image stores of a destination.
    pub(crate) fn on_destination(id: &DestinationId, on: &mut Connection) -> Rows<Vec<Self>> {
        let there = stores::destination_id.eq(id.as_str()).and(stores::gone.is_null());
        stores::table.filter(there).select(Self::as_select()).load(on)
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(stores::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    pub(crate) fn exists(id: &ImageStoreId, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(stores::table.find(id.as_str()))).get_result(on)
    }

    /// How many image stores an account has on a destination.
    pub(crate) fn count(account: &AccountId, destination: &DestinationId, on: &mut Connection) -> Rows<Count> {
        stores::table
            .inner_join(workstations::table)
            .filter(
                workstations::account_id
                    .eq(account.as_str())
                    .and(stores::destination_id.eq(destination.as_str()))
                    .and(stores::gone.is_null()),
            )
            .count()
            .get_result(on)
    }

    pub(crate) fn set_occupied(id: &ImageStoreId, bytes: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::occupied.eq(bytes)).execute(on).map(drop)
    }

    pub(crate) fn set_lost_points(id: &ImageStoreId, points: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::lost_points.eq(points)).execute(on).map(drop)
    }

    pub(crate) fn set_room_made(id: &ImageStoreId, made: Noted, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(StoreRoomMade::from(made)).execute(on).map(drop)
    }

    pub(crate) fn set_uncompacted(id: &ImageStoreId, untidy: bool, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::untidy.eq(untidy)).execute(on).map(drop)
    }

    /// Notes how far a scrub is that was interrupted.
    pub(crate) fn set_scrub_after(id: &ImageStoreId, after: Option<&str>, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::scrub_after.eq(after)).execute(on).map(drop)
    }

    /// Notes what a whole scrub came to.
    pub(crate) fn set_scrubbed(id: &ImageStoreId, at: Moment, findings: Option<&str>, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str()))
            .set((stores::scrubbed.eq(at), stores::findings.eq(findings), stores::scrub_after.eq(None::<String>)))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_lost(id: &ImageStoreId, chunks: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::lost_chunks.eq(chunks)).execute(on).map(drop)
    }

    /// Notes that a drill brought everything back.
    pub(crate) fn set_drilled(id: &ImageStoreId, at: Moment, point: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str()))
            .set((stores::drilled.eq(at), stores::drilled_point.eq(point), stores::drill_failed.eq(None::<i64>)))
            .execute(on)
            .map(drop)
    }

    /// Notes that a drill did not.
    pub(crate) fn set_drill_failed(id: &ImageStoreId, at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::drill_failed.eq(at)).execute(on).map(drop)
    }

    /// How many image stores passed a drill.
    pub(crate) fn drilled(on: &mut Connection) -> Rows<Count> {
        stores::table.filter(stores::gone.is_null().and(stores::drilled.is_not_null())).count().get_result(on)
    }

    /// Counts `n` points less.
    pub(crate) fn take_points(id: &ImageStoreId, n: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str())).set(stores::points.eq(stores::points - n)).execute(on).map(drop)
    }

    pub(crate) fn add_point(id: &ImageStoreId, sequence: Count, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(id.as_str()))
            .set((stores::points.eq(stores::points + 1), stores::latest_sequence.eq(sequence)))
            .execute(on)
            .map(drop)
    }
}

impl WorkstationLine {
    /// How many workstations of an account have a machine.
    pub(crate) fn machines_of(account: &AccountId, on: &mut Connection) -> Rows<Count> {
        workstations::table
            .filter(workstations::account_id.eq(account.as_str()).and(workstations::rest.is_null()))
            .count()
            .get_result(on)
    }

    /// All of them by name; of one account only when `owner` is given.
    pub(crate) fn all(owner: Option<&AccountId>, on: &mut Connection) -> Rows<Vec<Self>> {
        let mut query = lines!().filter(stores::gone.is_null()).order(workstations::name_key).into_boxed();
        if let Some(owner) = owner {
            query = query.filter(workstations::account_id.eq(owner.as_str().to_owned()));
        }
        Self::from_rows(query.load(on)?, owner, on)
    }

    /// Those whose image store is on a destination, by name.
    pub(crate) fn on_destination(id: &DestinationId, on: &mut Connection) -> Rows<Vec<Self>> {
        let there = stores::destination_id.eq(id.as_str().to_owned()).and(stores::gone.is_null());
        let rows = lines!().filter(there).order(workstations::name_key).load(on)?;
        Self::from_rows(rows, None, on)
    }

    /// The one with a name.
    pub(crate) fn by_name(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let known = workstations::name_key.eq(key.to_owned()).and(stores::gone.is_null());
        let row = lines!().filter(known).get_result(on).optional()?;
        Self::from_one(row, on)
    }

    pub(crate) fn by_id(id: &WorkstationId, on: &mut Connection) -> Rows<Option<Self>> {
        let known = workstations::id.eq(id.as_str()).and(stores::gone.is_null());
        let row = lines!().filter(known).get_result(on).optional()?;
        Self::from_one(row, on)
    }

    pub(crate) fn by_store(id: &ImageStoreId, on: &mut Connection) -> Rows<Option<Self>> {
        let known = stores::id.eq(id.as_str()).and(stores::gone.is_null());
        let row = lines!().filter(known).get_result(on).optional()?;
        Self::from_one(row, on)
    }

    pub(crate) fn by_store_also_gone(id: &ImageStoreId, on: &mut Connection) -> Rows<Option<Self>> {
        let row = lines!().filter(stores::id.eq(id.as_str())).get_result(on).optional()?;
        Self::from_one(row, on)
    }

    fn from_one(row: Option<Joined>, on: &mut Connection) -> Rows<Option<Self>> {
        let Some(row) = row else { return Ok(None) };
        let owner = row.1.id.0.clone();
        Ok(Self::from_rows(vec![row], Some(&owner), on)?.pop())
    }

    /// Lines of these rows, of one account only when `owner` is given.
    fn from_rows(rows: Vec<Joined>, owner: Option<&AccountId>, on: &mut Connection) -> Rows<Vec<Self>> {
        let mut by_account: HashMap<Id<AccountId>, Vec<(String, ScheduleSettings)>> = HashMap::new();
        for (account, group, set) in GroupRow::schedules(owner, on)? {
            by_account.entry(account).or_default().push((group, set.0));
        }
        let only = match &rows[..] {
            [(_, _, store, ..)] => Some(store.id.0.clone()),
            _ => None,
        };
        let mut suspects = Suspects::list(only.as_ref(), on)?;
        let mut line = |(workstation, account, store, destination, latest_point, latest_run, agent, proof): Joined| {
            let of_groups = by_account.get(&account.id).cloned().unwrap_or_default();
            let suspect = suspects.remove(&store.id);
            Self { workstation, account, store, destination, latest_point, latest_run, agent, proof, of_groups, suspect }
        };
        Ok(rows.into_iter().map(&mut line).collect())
    }

    /// When the latest point was committed, in Unix milliseconds.
    pub(crate) fn last_point_ms(&self) -> Option<i64> {
        self.latest_point.as_ref().map(|point| point.committed.ms())
    }

    /// How many runs failed since the last complete one: as the service saw it, or the agent, which also knows of those that never
    /// got here.
    pub(crate) fn failures(&self) -> u64 {
        let by_agent = self.agent.as_ref().map_or(Count::ZERO, |agent| agent.failures);
        self.workstation.failures.max(by_agent).get()
    }

    /// Whether no drill restored anything for too long.
    pub(crate) fn drill_overdue(&self, now: Moment) -> bool {
        let proved = self.store.drilled.unwrap_or(self.workstation.enrolled);
        let every = self.schedule().0.drill_days;
        self.latest_point.is_some() && jetfrost_office::freshness::is_drill_overdue(proved.ms(), every, now.ms())
    }

    /// From when on a proof is overdue that a secret opens its image store; none where there is no secret, or no machine.
    pub(crate) fn proof_due(&self) -> Option<Moment> {
        let proved = self.proof.as_ref().map(|proof| proof.at.ms());
        let due = proof_due(self.schedule().0.proof_days, proved, self.workstation.enrolled.ms());
        (self.store.encrypted && self.workstation.rest.is_none()).then(|| Moment::from_ms(due))
    }

    /// What schedule holds for it, and who set each part.
    pub(crate) fn schedule(&self) -> (Schedule, ScheduleOrigin) {
        let destination = (self.destination.name.as_str(), &self.destination.schedule.0);
        jetfrost_office::schedule::applied(&self.workstation.schedule.0, &self.of_groups, destination)
    }
}
