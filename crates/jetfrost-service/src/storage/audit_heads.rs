//! Heads of the audit log on every destination: written now and then, and held against the log.

use std::collections::BTreeMap;
use std::sync::{MutexGuard, PoisonError};

use jetfrost_office::access::Act;
use jetfrost_office::refusals::More;
use jetfrost_wire::service::{AuditCheck, AuditHeads};

use crate::audit_heads::{Head, append, last, read_all};
use crate::clock::{Moment, timestamp};
use crate::records::{AuditFilter, AuditRow, Connection, DestinationRow, NewEntry};
use crate::shared::{Caller, Result, SERVICE, ServiceError, place};
use crate::storage::Storage;

/// A head is written once an hour, when the log has grown.
const EVERY_MS: i64 = 3_600_000;
/// Heads of all destinations, by the entry that they are of; each with the number of its destination in the list.
pub(crate) type Expected = BTreeMap<i64, Vec<(usize, String)>>;
/// Entries that are read from the records at a time.
const PIECE: usize = 500;

impl Storage {
    pub(crate) fn lock_audit_altered(&self) -> MutexGuard<'_, Option<String>> {
        self.audit_altered.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Follows the chain from its first entry and says where it breaks, and whether the heads on the destinations agree.
    pub(crate) fn check_audit(&self, caller: &Caller) -> Result<AuditCheck> {
        caller.may(&Act::SeeOffice)?;
        let (heads, mut heads_of) = self.heads_to_compare()?;
        let mut check = AuditCheck { entries: 0, unchained: 0, broken_at: None, last_link: None, key: self.heads.key(), heads };
        let (mut after, mut link, mut expected) = (0, Vec::new(), 1);
        loop {
            let rows = self.records.read(|on| Ok::<_, ServiceError>(AuditRow::after(after, PIECE, on)?))?;
            for row in &rows {
                check.entries += 1;
                let unchained = row.link.is_none() && link.is_empty();
                check.unchained += u64::from(unchained);
                let sound = row.number == expected && (unchained || row.link.as_ref() == Some(&row.link_behind(&link)));
                if !sound && check.broken_at.is_none() {
                    check.broken_at = Some(expected.min(row.number));
                }
                compare(row.number, row.link.as_deref(), &mut heads_of, &mut check.heads);
                link = row.link.clone().unwrap_or_default();
                (after, expected) = (row.number, row.number + 1);
            }
            if rows.len() < PIECE {
                break;
            }
        }
        contradict_rest(heads_of, &mut check.heads);
        check.last_link = (!link.is_empty()).then(|| data_encoding::HEXLOWER.encode(&link));
        Ok(check)
    }

    /// Puts on record what was refused too often to be put there one by one, and writes heads.
    pub(crate) fn tend_audit(&self) -> Result<()> {
        let more = self.trail.refusals().over(self.clock.now_ms());
        for More { origin, count, like } in more {
            let subject = format!("{count} more from there, the last one: {like}");
            let (who, what) = ("unknown", "refused again and again");
            let entry = NewEntry {
                at: self.clock.now(),
                who,
                origin: &origin,
                what,
                subject: &subject,
                refused: true,
                ..NewEntry::default()
            };
            self.records.write(|on| Ok::<_, ServiceError>(AuditRow::insert(&entry, on)?))?;
        }
        let mut contradiction = None;
        for row in self.destination_rows()? {
            match self.tend_heads_on(&row) {
                Ok(found) => contradiction = contradiction.or(found),
                Err(why) => tracing::warn!(destination = row.name, why, "no head of the audit log was written"),
            }
        }
        *self.lock_audit_altered() = contradiction;
        Ok(())
    }

    /// Writes a head to a destination when it is time. Says what is wrong when the last one there is not the log's: then none is
    /// written, so that it can still be seen.
    fn tend_heads_on(&self, row: &DestinationRow) -> Result<Option<String>, String> {
        let here = place(row);
        if self.media.check(&here).is_err() {
            return Ok(None);
        }
        let before = last(&here.directory, &self.heads).map_err(|e| e.to_string())?;
        let at_head = |on: &mut Connection| {
            let latest = AuditRow::list(&AuditFilter::default(), i64::MAX, 1, on)?.pop();
            let at_head = before.as_ref().map(|head| AuditRow::by_number(head.number, on)).transpose()?;
            Ok::<_, ServiceError>((latest, at_head.flatten()))
        };
        let (latest, at_head) = self.records.read(at_head).map_err(|e| e.to_string())?;
        if let Some(head) = &before
            && at_head.and_then(|entry| entry.link).map(|link| hex(&link)).as_ref() != Some(&head.link)
        {
            return Ok(Some(format!("entry {} is not what it was on {}, as '{}' shows", head.number, day(head), row.name)));
        }
        let Some((number, link)) = latest.and_then(|latest| Some((latest.number, latest.link?))) else { return Ok(None) };
        let is_due = before.is_none_or(|head| head.number < number && self.clock.now() - Moment::from(head.at) >= EVERY_MS);
        if is_due {
            let head = self.heads.sign(number, timestamp(self.clock.now()), &link);
            append(&here.directory, &head).map_err(|e| e.to_string())?;
        }
        Ok(None)
    }

    /// What the destinations hold, not yet held against the log; and what the log must say.
    pub(crate) fn heads_to_compare(&self) -> Result<(Vec<AuditHeads>, Expected)> {
        let (mut found, mut expected) = (Vec::new(), Expected::new());
        for row in self.destination_rows()? {
            let here = place(&row);
            let mut heads = AuditHeads {
                destination: row.name.clone(),
                agree: 0,
                contradicted_at: None,
                by_other_keys: 0,
                unreadable: 0,
                trouble: None,
            };
            let read = self
                .media
                .check(&here)
                .map_err(|e| e.to_string())
                .and_then(|()| read_all(&here.directory).map_err(|e| e.to_string()));
            match read {
                Err(why) => heads.trouble = Some(why),
                Ok(read) => {
                    heads.unreadable = read.unreadable;
                    for head in read.heads {
                        if !self.heads.is_named_by(&head) {
                            heads.by_other_keys += 1;
                        } else if self.heads.signed(&head) {
                            expected.entry(head.number).or_default().push((found.len(), head.link));
                        } else {
                            heads.unreadable += 1;
                        }
                    }
                }
            }
            found.push(heads);
        }
        Ok((found, expected))
    }

    /// A key was made that signs heads from now on.
    pub(crate) fn note_new_audit_key(&self) -> Result<()> {
        let key = self.heads.key();
        self.records.write(|on| self.trail.note_as(SERVICE, "", "audit key made", &key, on))
    }

    /// The last entry and its link, for whoever keeps them elsewhere.
    pub(crate) fn said_of_audit(&self) -> Result<String> {
        let latest =
            self.records.read(|on| Ok::<_, ServiceError>(AuditRow::list(&AuditFilter::default(), i64::MAX, 1, on)?.pop()))?;
        let Some((number, link)) = latest.and_then(|latest| Some((latest.number, latest.link?))) else {
            return Ok(String::new());
        };
        let link = hex(&link);
        Ok(format!(
            "Audit log: entry {number}, link {link}\n  Keep this message: 'jetfrost audit check --expect {link}' says later whether the log is still the same.\n"
        ))
    }
}

/// Holds the heads that are of `number` or before against the link that this entry has.
pub(crate) fn compare(number: i64, link: Option<&[u8]>, expected: &mut Expected, found: &mut [AuditHeads]) {
    let link = link.map(hex);
    while let Some(entry) = expected.first_entry().filter(|entry| *entry.key() <= number) {
        let (of, heads) = entry.remove_entry();
        for (i, expected_link) in heads {
            if of == number && link.as_ref() == Some(&expected_link) {
                found[i].agree += 1;
            } else {
                found[i].contradicted_at.get_or_insert(of);
            }
        }
    }
}

/// What no entry was there for: the log ends before it.
pub(crate) fn contradict_rest(expected: Expected, found: &mut [AuditHeads]) {
    for (of, heads) in expected {
        for (i, _) in heads {
            found[i].contradicted_at.get_or_insert(of);
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    data_encoding::HEXLOWER.encode(bytes)
}

fn day(head: &Head) -> String {
    head.at.to_string().chars().take(10).collect()
}
