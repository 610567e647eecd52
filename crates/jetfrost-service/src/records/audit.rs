//! The audit log: entries are added, never changed, and each carries the hash of all before it.

use diesel::prelude::*;

use super::schema::audit;
use super::{Connection, Rows};

use crate::clock::Moment;

/// The most bytes of a name, of what an entry is about, and of what it was before or after.
const MOST_NAME: usize = 256;
const MOST_SUBJECT: usize = 1024;
const MOST_CHANGE: usize = 8192;

/// The beginning of a text, at the border of a character.
fn cut(text: &str, most: usize) -> &str {
    &text[..text.floor_char_boundary(most)]
}

/// An entry that is about to be made.
#[derive(Debug, Clone, Default)]
pub(crate) struct NewEntry<'e> {
    pub(crate) at: Moment,
    pub(crate) who: &'e str,
    pub(crate) origin: &'e str,
    pub(crate) what: &'e str,
    pub(crate) subject: &'e str,
    pub(crate) before: Option<&'e str>,
    pub(crate) after: Option<&'e str>,
    pub(crate) refused: bool,
}

#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = audit)]
pub(crate) struct AuditRow {
    pub(crate) number: i64,
    pub(crate) at: Moment,
    pub(crate) who: String,
    pub(crate) origin: String,
    pub(crate) what: String,
    pub(crate) subject: String,
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
    pub(crate) refused: bool,
    /// The hash of this entry and of the link before; entries of the first versions have none.
    pub(crate) link: Option<Vec<u8>>,
}

/// Which entries are wished.
#[derive(Debug, Clone, Default)]
pub(crate) struct AuditFilter {
    /// Only entries that mention this text anywhere.
    pub(crate) text: Option<String>,
    pub(crate) who: Option<String>,
    pub(crate) since: Option<Moment>,
    pub(crate) until: Option<Moment>,
    pub(crate) only_refused: bool,
}

impl AuditRow {
    /// The link that an entry gets behind `before` (BLAKE3 of both, each field with its length in front).
    pub(crate) fn link_behind(&self, before: &[u8]) -> Vec<u8> {
        let mut hasher = blake3::Hasher::new();
        let mut field = |bytes: &[u8]| {
            hasher.update(&(bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        };
        field(before);
        field(&self.number.to_le_bytes());
        field(&self.at.ms().to_le_bytes());
        for text in [&self.who, &self.origin, &self.what, &self.subject] {
            field(text.as_bytes());
        }
        for text in [&self.before, &self.after] {
            field(&[u8::from(text.is_some())]);
            field(text.as_deref().unwrap_or_default().as_bytes());
        }
        field(&[u8::from(self.refused)]);
        hasher.finalize().as_bytes().to_vec()
    }

    /// Adds an entry behind the last one. What others wrote into it is cut to what anybody will read.
    pub(crate) fn insert(new: &NewEntry<'_>, on: &mut Connection) -> Rows<()> {
        let before: Option<Option<Vec<u8>>> =
            audit::table.order(audit::number.desc()).select(audit::link).first(on).optional()?;
        let mut row: Self = diesel::insert_into(audit::table)
            .values((
                audit::at.eq(new.at),
                audit::who.eq(cut(new.who, MOST_NAME)),
                audit::origin.eq(new.origin),
                audit::what.eq(new.what),
                audit::subject.eq(cut(new.subject, MOST_SUBJECT)),
                audit::before.eq(new.before.map(|text| cut(text, MOST_CHANGE))),
                audit::after.eq(new.after.map(|text| cut(text, MOST_CHANGE))),
                audit::refused.eq(new.refused),
            ))
            .returning(Self::as_returning())
            .get_result(on)?;
        row.link = Some(row.link_behind(&before.flatten().unwrap_or_default()));
        diesel::update(audit::table.find(row.number)).set(audit::link.eq(&row.link)).execute(on).map(drop)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(filter: &AuditFilter, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let mut query = audit::table
            .filter(audit::number.lt(before))
            .order(audit::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .into_boxed();
        if let Some(text) = &filter.text {
            let pattern = like(text);
            query = query.filter(
                audit::what
                    .like(pattern.clone())
                    .escape('\\')
                    .or(audit::subject.like(pattern.clone()).escape('\\'))
                    .or(audit::before.like(pattern.clone()).escape('\\'))
                    .or(audit::after.like(pattern).escape('\\')),
            );
        }
        if let Some(who) = &filter.who {
            query = query.filter(audit::who.like(like(who)).escape('\\'));
        }
        if let Some(since) = filter.since {
            query = query.filter(audit::at.ge(since));
        }
        if let Some(until) = filter.until {
            query = query.filter(audit::at.lt(until));
        }
        if filter.only_refused {
            query = query.filter(audit::refused);
        }
        query.load(on)
    }

    /// The latest entry by which something became what `after` says.
    pub(crate) fn latest_that_made(subject: Option<&str>, after: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let mut query = audit::table
            .filter(audit::after.eq(cut(after, MOST_CHANGE)))
            .order(audit::number.desc())
            .select(Self::as_select())
            .into_boxed();
        if let Some(subject) = subject {
            query = query.filter(audit::subject.eq(cut(subject, MOST_SUBJECT)));
        }
        query.first(on).optional()
    }

    pub(crate) fn by_number(number: i64, on: &mut Connection) -> Rows<Option<Self>> {
        audit::table.find(number).select(Self::as_select()).get_result(on).optional()
    }

    /// In order, after the number `after`.
    pub(crate) fn after(after: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        audit::table.filter(audit::number.gt(after)).order(audit::number).limit(most as i64).select(Self::as_select()).load(on)
    }
}

/// A pattern for text that has this within it; what would be special in a pattern is not.
fn like(text: &str) -> String {
    let plain = text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
    format!("%{plain}%")
}
