//! The audit log: who did what, when, from where, and how it was before and after.

use std::sync::PoisonError;

use jetfrost_office::access::Act;
use jetfrost_types::WorkstationId;
use jetfrost_wire::Page;
use jetfrost_wire::service::{AuditEntry, AuditQuery, ExportForm};

use crate::clock::Moment;
use crate::identity::Identity;
use crate::records::{AuditFilter, AuditRow};
use crate::shared::{Caller, Result, ServiceError, Who, convert, csv_line, number_cursor};

/// Entries that are read from the records at a time.
const PIECE: usize = 500;

/// Entries a page unless something else is wished, and at most.
const USUAL_PAGE: u16 = 100;

const MOST_PAGE: u16 = 500;

impl Identity {
    /// Puts a call on record that was refused by a role, or a workstation's by access, withdrawal or pause. A workstation that
    /// tries again and again is recorded once.
    pub(crate) fn audit_refused_call(&self, caller: &Caller, error: &ServiceError, call: &str) -> Result<()> {
        match (&caller.who, error) {
            (_, ServiceError::NotAllowed) => self.trail.note_refusal(&caller.name(), &caller.origin, "refused by role", call),
            (
                Who::Device { workstation },
                ServiceError::NoAccess { .. } | ServiceError::Withdrawn(_) | ServiceError::Paused { .. },
            ) => {
                let why = error.to_string();
                let mut told = self.refusals_told.lock().unwrap_or_else(PoisonError::into_inner);
                if told.insert(workstation.id.0.clone(), why.clone()).as_deref() == Some(&why) {
                    return Ok(());
                }
                drop(told);
                self.trail.note_refusal(&caller.name(), &caller.origin, "refused", &why)
            }
            _ => Ok(()),
        }
    }

    /// A workstation was accepted: the next refusal is news again.
    pub(crate) fn accepted(&self, workstation: &WorkstationId) {
        self.refusals_told.lock().unwrap_or_else(PoisonError::into_inner).remove(workstation);
    }

    /// The audit log, latest first.
    pub(crate) fn audit_log(&self, caller: &Caller, query: &AuditQuery) -> Result<Page<AuditEntry>> {
        caller.may(&Act::SeeOffice)?;
        let size = usize::from(query.most.unwrap_or(USUAL_PAGE).clamp(1, MOST_PAGE));
        let before = number_cursor(query.after.as_ref())?;
        let filter = filter(query);
        let rows = self.records.read(|on| Ok::<_, ServiceError>(AuditRow::list(&filter, before, size + 1, on)?))?;
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
            self.records.write(|on| self.trail.note(caller, "audit log exported", "", on))?;
        }
        let filter = filter(query);
        let rows = self.records.read(|on| Ok::<_, ServiceError>(AuditRow::list(&filter, before, PIECE, on)?))?;
        let next = (rows.len() == PIECE).then(|| rows.last().map(|row| row.number)).flatten();
        let lines = rows.into_iter().map(convert::audit_entry).map(|entry| line(&entry, form));
        Ok((lines.collect(), next))
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
            csv_line(fields.iter().map(String::as_str)) + "\r\n"
        }
    }
}

fn filter(query: &AuditQuery) -> AuditFilter {
    let some = |text: &Option<String>| text.clone().filter(|text| !text.is_empty());
    AuditFilter {
        text: some(&query.text),
        who: some(&query.who),
        since: query.since.map(Moment::from),
        until: query.until.map(Moment::from),
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
            at: timestamp(Moment::FIRST),
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
