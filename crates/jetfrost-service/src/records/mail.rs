//! Where mail goes, and which alerts it has sent.

use diesel::prelude::*;
use jetfrost_types::AlertKind;
use jetfrost_wire::alerts::MailSecurity;

use super::schema::{mail, told};
use super::{Connection, Port, Rows, Word};

use crate::clock::Moment;

const ONLY: i32 = 1;

#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = mail)]
pub(crate) struct MailRow {
    pub(crate) id: i32,
    pub(crate) server: String,
    pub(crate) port: Port,
    pub(crate) security: Word<MailSecurity>,
    pub(crate) login: Option<String>,
    pub(crate) password: Option<String>,
    pub(crate) sender: String,
    /// Addresses, one a line.
    pub(crate) recipients: String,
    pub(crate) summary_hour: Option<i32>,
    pub(crate) delivered: Option<Moment>,
    pub(crate) trouble: Option<String>,
    pub(crate) trouble_since: Option<Moment>,
    pub(crate) summarised: Option<Moment>,
}

impl MailRow {
    pub(crate) const ONLY: i32 = ONLY;

    pub(crate) fn get(on: &mut Connection) -> Rows<Option<Self>> {
        mail::table.select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(mail::table).values(self).execute(on).map(drop)
    }

    /// Sends no mail any more. Which alerts were sent is forgotten.
    pub(crate) fn remove(on: &mut Connection) -> Rows<()> {
        diesel::delete(told::table).execute(on)?;
        diesel::delete(mail::table).execute(on).map(drop)
    }

    pub(crate) fn set_delivered(at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(mail::table.find(ONLY))
            .set((mail::delivered.eq(at), mail::trouble.eq(None::<String>), mail::trouble_since.eq(None::<i64>)))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_trouble(said: &str, since: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(mail::table.find(ONLY)).set((mail::trouble.eq(said), mail::trouble_since.eq(since))).execute(on).map(drop)
    }

    pub(crate) fn set_summarised(at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(mail::table.find(ONLY)).set(mail::summarised.eq(at)).execute(on).map(drop)
    }

    pub(crate) fn recipients(&self) -> impl Iterator<Item = &str> {
        self.recipients.lines()
    }
}

/// An alert that was sent.
#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = told)]
pub(crate) struct ToldRow {
    pub(crate) kind: Word<AlertKind>,
    pub(crate) subject: String,
    pub(crate) at: Moment,
    pub(crate) detail: String,
}

impl ToldRow {
    pub(crate) fn all(on: &mut Connection) -> Rows<Vec<Self>> {
        told::table.select(Self::as_select()).load(on)
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(told::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn remove(kind: AlertKind, subject: &str, on: &mut Connection) -> Rows<()> {
        diesel::delete(told::table.find((kind.word(), subject))).execute(on).map(drop)
    }
}
