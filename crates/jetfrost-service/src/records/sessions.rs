//! Sessions and the audit log.

use diesel::prelude::*;

use super::people::AccountRow;
use super::schema::{accounts, audit, sessions};
use super::{Connection, Rows};

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = sessions)]
pub(crate) struct SessionRow {
    pub(crate) id: String,
    pub(crate) secret_hash: Vec<u8>,
    pub(crate) account_id: String,
    pub(crate) carry: String,
    pub(crate) label: String,
    pub(crate) created: i64,
    pub(crate) last_used: i64,
    pub(crate) expires: i64,
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
            .first(on)
            .optional()
    }

    pub(crate) fn set_used(&self, at: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(sessions::table.find(&self.id)).set(sessions::last_used.eq(at)).execute(on).map(drop)
    }

    pub(crate) fn remove(id: &str, on: &mut Connection) -> Rows<()> {
        diesel::delete(sessions::table.find(id)).execute(on).map(drop)
    }

    pub(crate) fn remove_expired(now: i64, on: &mut Connection) -> Rows<()> {
        diesel::delete(sessions::table.filter(sessions::expires.le(now))).execute(on).map(drop)
    }
}

#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = audit)]
pub(crate) struct AuditRow {
    pub(crate) number: i64,
    pub(crate) at: i64,
    pub(crate) who: String,
    pub(crate) origin: String,
    pub(crate) what: String,
    pub(crate) subject: String,
}

impl AuditRow {
    pub(crate) fn insert(at: i64, who: &str, origin: &str, what: &str, subject: &str, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(audit::table)
            .values((
                audit::at.eq(at),
                audit::who.eq(who),
                audit::origin.eq(origin),
                audit::what.eq(what),
                audit::subject.eq(subject),
            ))
            .execute(on)
            .map(drop)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        audit::table
            .filter(audit::number.lt(before))
            .order(audit::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }
}
