//! Sessions of people, and tokens of commands.

use diesel::prelude::*;
use jetfrost_types::{AccountId, SessionId};
use jetfrost_wire::service::{Carry, TokenScope};

use super::people::AccountRow;
use super::schema::{accounts, sessions};
use super::{Connection, Id, Rows, Word};

use crate::clock::Moment;

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = sessions)]
pub(crate) struct SessionRow {
    pub(crate) id: Id<SessionId>,
    pub(crate) secret_hash: Vec<u8>,
    pub(crate) account_id: Id<AccountId>,
    pub(crate) carry: Word<Carry>,
    pub(crate) label: String,
    pub(crate) created: Moment,
    pub(crate) last_used: Moment,
    pub(crate) expires: Moment,
    pub(crate) scope: Word<TokenScope>,
    /// The address that it was begun from.
    pub(crate) origin: String,
}

impl SessionRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(sessions::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_secret(hash: &[u8], on: &mut Connection) -> Rows<Option<(Self, AccountRow)>> {
        sessions::table
            .inner_join(accounts::table)
            .filter(sessions::secret_hash.eq(hash))
            .select((Self::as_select(), AccountRow::as_select()))
            .get_result(on)
            .optional()
    }

    /// The sessions of an account that are not over, latest used first.
    pub(crate) fn of(account: &AccountId, now: Moment, on: &mut Connection) -> Rows<Vec<Self>> {
        sessions::table
            .filter(sessions::account_id.eq(account.as_str()).and(sessions::expires.gt(now)))
            .order((sessions::last_used.desc(), sessions::id))
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn set_used(&self, at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(sessions::table.find(&self.id)).set(sessions::last_used.eq(at)).execute(on).map(drop)
    }

    /// Ends a session of an account; says whether there was one.
    pub(crate) fn end(id: &SessionId, account: &AccountId, on: &mut Connection) -> Rows<bool> {
        let one = sessions::id.eq(id.as_str()).and(sessions::account_id.eq(account.as_str()));
        Ok(diesel::delete(sessions::table.filter(one)).execute(on)? > 0)
    }

    /// Ends all sessions of an account but one; says how many.
    pub(crate) fn end_all(account: &AccountId, but: Option<&SessionId>, on: &mut Connection) -> Rows<usize> {
        let those = sessions::account_id.eq(account.as_str()).and(sessions::id.ne(but.map_or("", SessionId::as_str)));
        diesel::delete(sessions::table.filter(those)).execute(on)
    }

    pub(crate) fn remove_expired(now: Moment, on: &mut Connection) -> Rows<()> {
        diesel::delete(sessions::table.filter(sessions::expires.le(now))).execute(on).map(drop)
    }
}
