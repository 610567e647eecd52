//! Puts what happens into the audit log, within the transaction in which it happens.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Caller, Result};
use jetfrost_office::refusals::Refusals;

use crate::clock::Clock;
use crate::records::{AuditRow, Connection, NewEntry, Records, set_important_change};

/// What was refused is not recorded at greater length than this.
const MOST_REFUSED: usize = 512;

/// The way into the audit log.
pub(crate) struct Trail {
    records: Records,
    clock: Arc<dyn Clock>,
    /// Refusals that repeat.
    refusals: Mutex<Refusals>,
}

impl Trail {
    pub(crate) fn new(records: Records, clock: Arc<dyn Clock>) -> Self {
        Self { records, clock, refusals: Mutex::default() }
    }

    /// Puts a change on record. Called within the transaction that makes it.
    pub(crate) fn note(&self, caller: &Caller, what: &str, subject: &str, on: &mut Connection) -> Result<()> {
        self.note_change(caller, what, subject, None, None, on)
    }

    /// Puts a change on record, with how it was before and after.
    pub(crate) fn note_change(
        &self,
        caller: &Caller,
        what: &str,
        subject: &str,
        before: Option<&str>,
        after: Option<&str>,
        on: &mut Connection,
    ) -> Result<()> {
        let (who, origin, at) = (caller.name(), &caller.origin, self.clock.now());
        let entry = NewEntry { at, who: &who, origin, what, subject, before, after, refused: false };
        set_important_change(at, on)?;
        Ok(AuditRow::insert(&entry, on)?)
    }

    /// Puts something on record that no signed-in caller did.
    pub(crate) fn note_as(&self, who: &str, origin: &str, what: &str, subject: &str, on: &mut Connection) -> Result<()> {
        let entry = NewEntry { at: self.clock.now(), who, origin, what, subject, ..NewEntry::default() };
        Ok(AuditRow::insert(&entry, on)?)
    }

    /// Puts a refusal on record. Many from one address are put there as a number.
    pub(crate) fn note_refusal(&self, who: &str, origin: &str, what: &str, subject: &str) -> Result<()> {
        let subject = &subject[..subject.floor_char_boundary(MOST_REFUSED)];
        let at = self.clock.now();
        if !self.refusals().note(origin, format!("{what} {subject}"), at.ms()) {
            return Ok(());
        }
        let entry = NewEntry { at, who, origin, what, subject, refused: true, ..NewEntry::default() };
        self.records.write(|on| Ok(AuditRow::insert(&entry, on)?))
    }

    /// Refusals that repeat, as counted so far.
    pub(crate) fn refusals(&self) -> MutexGuard<'_, Refusals> {
        self.refusals.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
