//! Enrolment codes.

use diesel::prelude::*;
use jetfrost_types::Limit;
use jetfrost_types::{AccountId, CodeId, DestinationId, WorkstationId};

use super::schema::{accounts, destinations, enrolment_codes, workstations};
use super::{Connection, Count, Id, Rows};

use crate::clock::Moment;

macro_rules! with_names {
    ($claimed:ident) => {
        enrolment_codes::table
            .inner_join(accounts::table)
            .inner_join(destinations::table)
            .left_join(workstations::table.on(enrolment_codes::workstation_id.eq(workstations::id.nullable())))
            .left_join($claimed.on(enrolment_codes::claims.eq($claimed.field(workstations::id).nullable())))
            .select((
                CodeRow::as_select(),
                accounts::login,
                destinations::name,
                workstations::name.nullable(),
                $claimed.field(workstations::name).nullable(),
            ))
    };
}

#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = enrolment_codes)]
pub(crate) struct CodeRow {
    pub(crate) number: i64,
    pub(crate) id: Id<CodeId>,
    pub(crate) account_id: Id<AccountId>,
    pub(crate) destination_id: Id<DestinationId>,
    pub(crate) created: Moment,
    pub(crate) expires: Moment,
    pub(crate) used: Option<Moment>,
    pub(crate) cancelled: Option<Moment>,
    /// The workstation that it hands to a machine, where it makes none.
    pub(crate) claims: Option<Id<WorkstationId>>,
    /// The machine that it is for, and the key of that name.
    pub(crate) machine: Option<String>,
    pub(crate) machine_key: Option<String>,
    /// Whether it says what limit the image store gets; then no number is no limit.
    pub(crate) limit_said: bool,
    pub(crate) size_limit: Option<Count>,
    pub(crate) encrypted: bool,
}

/// A code with the names that go with it.
#[derive(Debug, Clone)]
pub(crate) struct CodeWithNames {
    pub(crate) code: CodeRow,
    pub(crate) login: String,
    pub(crate) destination: String,
    pub(crate) workstation: Option<String>,
    pub(crate) claims: Option<String>,
}

/// A code that is about to be made.
#[derive(Debug, Insertable)]
#[diesel(table_name = enrolment_codes)]
pub(crate) struct NewCode<'c> {
    pub(crate) id: &'c str,
    pub(crate) secret_hash: &'c [u8],
    pub(crate) account_id: &'c str,
    pub(crate) destination_id: &'c str,
    pub(crate) created: Moment,
    pub(crate) expires: Moment,
    pub(crate) claims: Option<&'c str>,
    pub(crate) machine: Option<&'c str>,
    pub(crate) machine_key: Option<&'c str>,
    pub(crate) limit_said: bool,
    pub(crate) size_limit: Option<Count>,
    pub(crate) encrypted: bool,
}

impl CodeRow {
    pub(crate) fn insert(new: &NewCode<'_>, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(enrolment_codes::table).values(new).execute(on).map(drop)
    }

    /// How many codes of an account can still be used.
    pub(crate) fn open_of(account: &AccountId, now: Moment, on: &mut Connection) -> Rows<Count> {
        enrolment_codes::table
            .filter(enrolment_codes::account_id.eq(account.as_str()).and(enrolment_codes::expires.gt(now)))
            .filter(enrolment_codes::used.is_null().and(enrolment_codes::cancelled.is_null()))
            .count()
            .get_result(on)
    }

    /// The workstations that open codes hand to a machine.
    pub(crate) fn claimed(now: Moment, on: &mut Connection) -> Rows<Vec<String>> {
        let claims: Vec<Option<String>> = enrolment_codes::table
            .filter(enrolment_codes::claims.is_not_null().and(enrolment_codes::expires.gt(now)))
            .filter(enrolment_codes::used.is_null().and(enrolment_codes::cancelled.is_null()))
            .select(enrolment_codes::claims)
            .load(on)?;
        Ok(claims.into_iter().flatten().collect())
    }

    pub(crate) fn cancel_open_of(account: &AccountId, at: Moment, on: &mut Connection) -> Rows<()> {
        let open = enrolment_codes::used.is_null().and(enrolment_codes::cancelled.is_null());
        diesel::update(enrolment_codes::table.filter(enrolment_codes::account_id.eq(account.as_str()).and(open)))
            .set(enrolment_codes::cancelled.eq(at))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn by_secret(hash: &[u8], on: &mut Connection) -> Rows<Option<Self>> {
        enrolment_codes::table.filter(enrolment_codes::secret_hash.eq(hash)).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn set_used(&self, at: Moment, workstation: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number))
            .set((enrolment_codes::used.eq(at), enrolment_codes::workstation_id.eq(workstation.as_str())))
            .execute(on)
            .map(drop)
    }

    /// The limit of the image store that it makes; none for the usual one.
    pub(crate) fn limit(&self) -> Option<Limit> {
        self.limit_said.then(|| self.size_limit.map(Count::get).into())
    }

    /// Sets what it makes: `limit` is none for the usual one, and holds none for no limit. The code itself stays.
    pub(crate) fn set_makes(
        &self,
        destination: &DestinationId,
        limit: Option<Option<Count>>,
        encrypted: bool,
        on: &mut Connection,
    ) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number))
            .set((
                enrolment_codes::destination_id.eq(destination.as_str()),
                enrolment_codes::limit_said.eq(limit.is_some()),
                enrolment_codes::size_limit.eq(limit.flatten()),
                enrolment_codes::encrypted.eq(encrypted),
            ))
            .execute(on)
            .map(drop)
    }

    /// Gives it another secret, for as long as it had. The one from before opens nothing any more.
    pub(crate) fn renew(&self, secret_hash: &[u8], now: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number))
            .set((
                enrolment_codes::secret_hash.eq(secret_hash),
                enrolment_codes::created.eq(now),
                enrolment_codes::expires.eq(now + (self.expires - self.created)),
            ))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_cancelled(&self, at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number)).set(enrolment_codes::cancelled.eq(at)).execute(on).map(drop)
    }
}

impl CodeWithNames {
    /// Latest first, before the number `before`.
    pub(crate) fn list(before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let claimed = diesel::alias!(workstations as claimed);
        let rows = with_names!(claimed)
            .filter(enrolment_codes::number.lt(before))
            .order(enrolment_codes::number.desc())
            .limit(most as i64)
            .load(on)?;
        Ok(rows.into_iter().map(Self::from_row).collect())
    }

    /// Those that can be used and are for a machine that was named, latest first.
    pub(crate) fn waiting(now: Moment, on: &mut Connection) -> Rows<Vec<Self>> {
        let claimed = diesel::alias!(workstations as claimed);
        let rows = with_names!(claimed)
            .filter(enrolment_codes::machine_key.is_not_null().and(enrolment_codes::expires.gt(now)))
            .filter(enrolment_codes::used.is_null().and(enrolment_codes::cancelled.is_null()))
            .order(enrolment_codes::number.desc())
            .load(on)?;
        Ok(rows.into_iter().map(Self::from_row).collect())
    }

    pub(crate) fn by_id(id: &CodeId, on: &mut Connection) -> Rows<Option<Self>> {
        let claimed = diesel::alias!(workstations as claimed);
        let row = with_names!(claimed).filter(enrolment_codes::id.eq(id.as_str())).get_result(on).optional()?;
        Ok(row.map(Self::from_row))
    }

    fn from_row(row: (CodeRow, String, String, Option<String>, Option<String>)) -> Self {
        let (code, login, destination, workstation, claims) = row;
        Self { code, login, destination, workstation, claims }
    }
}
