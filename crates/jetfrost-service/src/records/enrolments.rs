//! Enrolment codes.

use diesel::prelude::*;

use super::schema::{accounts, destinations, enrolment_codes, workstations};
use super::{Connection, Rows};

macro_rules! with_names {
    () => {
        enrolment_codes::table
            .inner_join(accounts::table)
            .inner_join(destinations::table)
            .left_join(workstations::table.on(enrolment_codes::workstation_id.eq(workstations::id.nullable())))
            .select((CodeRow::as_select(), accounts::login, destinations::name, workstations::name.nullable()))
    };
}

#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = enrolment_codes)]
pub(crate) struct CodeRow {
    pub(crate) number: i64,
    pub(crate) id: String,
    pub(crate) account_id: String,
    pub(crate) destination_id: String,
    pub(crate) created: i64,
    pub(crate) expires: i64,
    pub(crate) used: Option<i64>,
    pub(crate) cancelled: Option<i64>,
}

/// A code with the names that go with it.
#[derive(Debug, Clone)]
pub(crate) struct CodeWithNames {
    pub(crate) code: CodeRow,
    pub(crate) login: String,
    pub(crate) destination: String,
    pub(crate) workstation: Option<String>,
}

impl CodeRow {
    pub(crate) fn insert(
        id: &str,
        secret_hash: &[u8],
        account: &str,
        destination: &str,
        created: i64,
        expires: i64,
        on: &mut Connection,
    ) -> Rows<()> {
        diesel::insert_into(enrolment_codes::table)
            .values((
                enrolment_codes::id.eq(id),
                enrolment_codes::secret_hash.eq(secret_hash),
                enrolment_codes::account_id.eq(account),
                enrolment_codes::destination_id.eq(destination),
                enrolment_codes::created.eq(created),
                enrolment_codes::expires.eq(expires),
            ))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn by_secret(hash: &[u8], on: &mut Connection) -> Rows<Option<Self>> {
        enrolment_codes::table.filter(enrolment_codes::secret_hash.eq(hash)).select(Self::as_select()).first(on).optional()
    }

    pub(crate) fn set_used(&self, at: i64, workstation: &str, on: &mut Connection) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number))
            .set((enrolment_codes::used.eq(at), enrolment_codes::workstation_id.eq(workstation)))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_cancelled(&self, at: i64, on: &mut Connection) -> Rows<()> {
        diesel::update(enrolment_codes::table.find(self.number)).set(enrolment_codes::cancelled.eq(at)).execute(on).map(drop)
    }
}

impl CodeWithNames {
    /// Latest first, before the number `before`.
    pub(crate) fn list(before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let rows = with_names!()
            .filter(enrolment_codes::number.lt(before))
            .order(enrolment_codes::number.desc())
            .limit(most as i64)
            .load(on)?;
        Ok(rows.into_iter().map(Self::from_row).collect())
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let row = with_names!().filter(enrolment_codes::id.eq(id)).first(on).optional()?;
        Ok(row.map(Self::from_row))
    }

    fn from_row((code, login, destination, workstation): (CodeRow, String, String, Option<String>)) -> Self {
        Self { code, login, destination, workstation }
    }
}
