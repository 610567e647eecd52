//! The audit log: who did what, when, from where, and how it was before and after.

use std::sync::{MutexGuard, PoisonError};

use jetfrost_office::access::Act;
use jetfrost_office::refusals::Refusals;
use jetfrost_wire::Page;
use jetfrost_wire::service::{AuditCheck, AuditEntry, AuditQuery, ExportForm};

use super::{Caller, Desk, DeskError, Result, Who, audit_heads, convert, number_cursor};
use crate::records::{AuditFilter, AuditRow, Connection, NewEntry};

/// Entries that are read from the records at a time.
const PIECE: usize = 500;
/// What was refused is not told at greater length than this.
const MOST_REFUSED: usize = 512;
/// Entries a page unless something else is wished, and at most.
const USUAL_PAGE: u16 = 100;
const MOST_PAGE: u16 = 500;

impl Desk {
    /// Puts a change on record. Called within the transaction that makes it.
    pub(super) fn audit(&self, caller: &Caller, what: &str, subject: &str, on: &mut Connection) -> Result<()> {
        self.audit_change(caller, what, subject, None, None, on)
    }

    /// Puts a change on record, with how it was before and after.
    pub(super) fn audit_change(
        &self,
        caller: &Caller,
        what: &str,
        subject: &str,
        before: Option<&str>,
        after: Option<&str>,
        on: &mut Connection,
    ) -> Result<()> {
        let (who, origin) = (caller.name(), &caller.origin);
        let entry = NewEntry { at: self.now(), who: &who, origin, what, subject, before, after, refused: false };
        crate::records::set_important_change(self.now(), on)?;
        Ok(AuditRow::insert(&entry, on)?)
    }

    /// Puts something on record that no signed-in caller did.
    pub(super) fn audit_as(&self, who: &str, origin: &str, what: &str, subject: &str, on: &mut Connection) -> Result<()> {
        let entry = NewEntry { at: self.now(), who, origin, what, subject, ..NewEntry::default() };
        Ok(AuditRow::insert(&entry, on)?)
    }

    /// Puts a refusal on record. Many from one address are put there as a number.
    pub(crate) fn audit_refusal(&self, who: &str, origin: &str, what: &str, subject: &str) -> Result<()> {
        let subject = &subject[..subject.floor_char_boundary(MOST_REFUSED)];
        if !self.lock_refusals().note(origin, format!("{what} {subject}"), self.now()) {
            return Ok(());
        }
        let entry = NewEntry { at: self.now(), who, origin, what, subject, refused: true, ..NewEntry::default() };
        self.records.write(|on| Ok(AuditRow::insert(&entry, on)?))
    }

    /// Puts a call on record that was refused by a role, or a workstation's by access, withdrawal or pause. A workstation that
    /// tries again and again is told once.
    pub(crate) fn audit_refused_call(&self, caller: &Caller, error: &DeskError, call: &str) -> Result<()> {
        match (&caller.who, error) {
            (_, DeskError::NotAllowed) => self.audit_refusal(&caller.name(), &caller.origin, "refused by role", call),
            (Who::Device { workstation }, DeskError::NoAccess { .. } | DeskError::Withdrawn(_) | DeskError::NotLetIn { .. }) => {
                let why = error.to_string();
                let mut told = self.refusals_told.lock().unwrap_or_else(PoisonError::into_inner);
                if told.insert(workstation.id.clone(), why.clone()).as_deref() == Some(&why) {
                    return Ok(());
                }
                drop(told);
                self.audit_refusal(&caller.name(), &caller.origin, "refused", &why)
            }
            _ => Ok(()),
        }
    }

    pub(super) fn lock_refusals(&self) -> MutexGuard<'_, Refusals> {
        self.refusals.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn lock_audit_altered(&self) -> MutexGuard<'_, Option<String>> {
        self.audit_altered.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A workstation was let in: the next refusal is news again.
    pub(super) fn let_in(&self, workstation: &str) {
        self.refusals_told.lock().unwrap_or_else(PoisonError::into_inner).remove(workstation);
    }

    /// The audit log, latest first.
    pub(crate) fn audit_log(&self, caller: &Caller, query: &AuditQuery) -> Result<Page<AuditEntry>> {
        caller.may(&Act::SeeOffice)?;
        let size = usize::from(query.most.unwrap_or(USUAL_PAGE).clamp(1, MOST_PAGE));
        let before = number_cursor(query.after.as_ref())?;
        let filter = filter(query);
        let rows = self.records.read(|on| Ok::<_, DeskError>(AuditRow::list(&filter, before, size + 1, on)?))?;
        let items = rows.into_iter().map(convert::audit_entry).collect();
        Ok(Page::from_one_more(items, size, |e: &AuditEntry| e.number.to_string()))
    }

    /// The next piece of an export, latest first, before the number `before`; and where the one after begins.
    pub(crate) fn export_audit(
        &self,
        caller: &Caller,
        query: &AuditQuery,
        form: ExportForm,
        before: i64,
    ) -> Result<(String, Option<i64>)> {
        caller.may(&Act::SeeOffice)?;
        if before == i64::MAX {
            self.records.write(|on| self.audit(caller, "audit log exported", "", on))?;
        }
        let filter = filter(query);
        let rows = self.records.read(|on| Ok::<_, DeskError>(AuditRow::list(&filter, before, PIECE, on)?))?;
        let next = (rows.len() == PIECE).then(|| rows.last().map(|row| row.number)).flatten();
        let lines = rows.into_iter().map(convert::audit_entry).map(|entry| line(&entry, form));
        Ok((lines.collect(), next))
    }

    /// Follows the chain from its first entry and says where it breaks, and whether the heads on the destinations agree.
    pub(crate) fn check_audit(&self, caller: &Caller) -> Result<AuditCheck> {
        caller.may(&Act::SeeOffice)?;
        let (heads, mut heads_of) = self.heads_to_compare()?;
        let mut check = AuditCheck { entries: 0, unchained: 0, broken_at: None, last_link: None, key: self.heads.key(), heads };
        let (mut after, mut link, mut expected) = (0, Vec::new(), 1);
        loop {
            let rows = self.records.read(|on| Ok::<_, DeskError>(AuditRow::after(after, PIECE, on)?))?;
            for row in &rows {
                check.entries += 1;
                let unchained = row.link.is_none() && link.is_empty();
                check.unchained += u64::from(unchained);
                let sound = row.number == expected && (unchained || row.link.as_ref() == Some(&row.link_behind(&link)));
                if !sound && check.broken_at.is_none() {
                    check.broken_at = Some(expected.min(row.number));
                }
                audit_heads::compare(row.number, row.link.as_deref(), &mut heads_of, &mut check.heads);
                link = row.link.clone().unwrap_or_default();
                (after, expected) = (row.number, row.number + 1);
            }
            if rows.len() < PIECE {
                break;
            }
        }
        audit_heads::contradict_rest(heads_of, &mut check.heads);
        check.last_link = (!link.is_empty()).then(|| data_encoding::HEXLOWER.encode(&link));
        Ok(check)
    }
}

/// The header of an export, if its form has one.
pub(crate) fn export_header(form: ExportForm) -> &'static str {
    match form {
        ExportForm::Csv => "number,at,who,from,what,subject,before,after,refused,link\r\n",
        ExportForm::JsonLines => "",
    }
}

fn line(entry: &AuditEntry, form: ExportForm) -> String {
    match form {
        ExportForm::JsonLines => serde_json::to_string(entry).unwrap_or_default() + "\n",
        ExportForm::Csv => {
            let text = |text: &Option<String>| text.clone().unwrap_or_default();
            let fields = [
                entry.number.to_string(),
                entry.at.to_string(),
                entry.who.clone(),
                entry.from.clone(),
                entry.what.clone(),
                entry.subject.clone(),
                text(&entry.before),
                text(&entry.after),
                entry.refused.to_string(),
                text(&entry.link),
            ];
            fields.map(|field| csv_field(&field)).join(",") + "\r\n"
        }
    }
}

/// A field of a CSV line (RFC 4180). What a spreadsheet would take for a formula is kept from being one.
fn csv_field(text: &str) -> String {
    let text = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() };
    if text.contains([',', '"', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

fn filter(query: &AuditQuery) -> AuditFilter {
    let some = |text: &Option<String>| text.clone().filter(|text| !text.is_empty());
    AuditFilter {
        text: some(&query.text),
        who: some(&query.who),
        since: query.since.map(jiff::Timestamp::as_millisecond),
        until: query.until.map(jiff::Timestamp::as_millisecond),
        only_refused: query.refused.unwrap_or(false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::timestamp;

    #[test]
    fn an_exported_line_reads_back_and_starts_no_formula() {
        let entry = AuditEntry {
            number: 7,
            at: timestamp(0),
            who: "=cmd()".into(),
            from: "10.0.0.1".into(),
            what: "account changed".into(),
            subject: "a \"b\", c".into(),
            before: None,
            after: Some("two\nlines".into()),
            refused: false,
            link: None,
        };
        assert_eq!(
            line(&entry, ExportForm::Csv),
            "7,1970-01-01T00:00:00Z,'=cmd(),10.0.0.1,account changed,\"a \"\"b\"\", c\",,\"two\nlines\",false,\r\n"
        );
        let json = line(&entry, ExportForm::JsonLines);
        assert_eq!(serde_json::from_str::<AuditEntry>(&json).expect("JSON"), entry);
        assert_eq!(json.lines().count(), 1);
    }
}
