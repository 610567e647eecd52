//! An account goes, and what becomes of its workstations: another account takes them, or they are retired, or removed like any other
//! image store, after their protected time and with nothing on hold.

use jetfrost_office::access::Act;
use jetfrost_types::AccountId;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{AccountRemoval, WorkstationsGo};

use crate::backups::Backups;
use crate::identity::accounts::{account_named, stays_administered};
use crate::records::{AccountRow, CodeRow, Connection, Removal, SessionRow, WorkstationLine};
use crate::shared::{Caller, Conflict, Result, ServiceError, Who};
use crate::storage::removal;
use crate::storage::stores::ALL_STORES;

impl Backups {
    /// Removes an account. What becomes of its workstations must be said if it has any.
    pub(crate) fn remove_account(&self, caller: &Caller, id: &AccountId, removal: &AccountRemoval) -> Result<()> {
        caller.may(&Act::ChangeOffice)?;
        if matches!(&caller.who, Who::Person { account, .. } if *account.id == *id) {
            return Err(ServiceError::Conflict(Conflict::OwnAccount));
        }
        self.records.write(|on| {
            let mut row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound("account"))?;
            stays_administered(&row, on)?;
            let lines = WorkstationLine::list(Some(&row.id), "", ALL_STORES, on)?;
            let fate = match &removal.workstations {
                Some(fate) => self.part_from(caller, &lines, fate, on)?,
                None if lines.is_empty() => String::new(),
                None => {
                    let names: Vec<&str> = lines.iter().map(|line| line.workstation.name.as_str()).collect();
                    let names = names.join(", ");
                    return Err(ServiceError::Invalid(format!(
                        "this account has workstations ({names}): say whether another account takes them, or they are retired, or removed"
                    )));
                }
            };
            SessionRow::end_all(&row.id, None, on)?;
            CodeRow::cancel_open_of(&row.id, self.clock.now_ms(), on)?;
            row.leave_everything(on)?;
            self.trail.note_change(caller, "account removed", &row.login, None, Some(&fate), on)?;
            row.removed = Some(self.clock.now_ms());
            row.password = None;
            row.totp = None;
            // The name is free again; the row stays for the history that names it.
            row.login_key = format!("{} (removed)", row.id);
            Ok::<_, ServiceError>(row.update(on)?)
        })?;
        self.events.tell(Event::Office);
        Ok(())
    }

    /// Does with each workstation of an account what was said, and answers with it in words, for the audit log.
    fn part_from(
        &self,
        caller: &Caller,
        lines: &[WorkstationLine],
        fate: &WorkstationsGo,
        on: &mut Connection,
    ) -> Result<String> {
        for line in lines {
            match fate {
                WorkstationsGo::To { login } => hand_over(line, &account_named(login, on)?, on)?,
                WorkstationsGo::Retire => self.cut_off(caller, line, on)?,
                WorkstationsGo::Remove => self.remove_with_account(caller, line, on)?,
            }
        }
        let names: Vec<&str> = lines.iter().map(|line| line.workstation.name.as_str()).collect();
        let names = names.join(", ");
        Ok(match fate {
            _ if lines.is_empty() => String::new(),
            WorkstationsGo::To { login } => format!("workstations {names} go to {login}"),
            WorkstationsGo::Retire => format!("workstations {names} are retired"),
            WorkstationsGo::Remove => format!("image stores of {names} wait to go"),
        })
    }

    fn cut_off(&self, caller: &Caller, line: &WorkstationLine, on: &mut Connection) -> Result<()> {
        Ok(line.workstation.clone().cut_off(self.clock.now_ms(), &caller.name(), on)?)
    }

    fn remove_with_account(&self, caller: &Caller, line: &WorkstationLine, on: &mut Connection) -> Result<()> {
        let now = self.clock.now_ms();
        let protected = removal::store_protected_until(line, now, on).map_err(|error| match error {
            ServiceError::Conflict(Conflict::StoreOnHold) => {
                let name = &line.workstation.name;
                ServiceError::Invalid(format!("there is a hold on backups of {name}: release it first"))
            }
            other => other,
        })?;
        let ends = removal::ends(protected, line.destination.waiting_days, now);
        let mut store = line.store.clone();
        store.removal.get_or_insert_with(|| Removal { ends, by: caller.name() });
        store.update(on)?;
        self.cut_off(caller, line, on)
    }
}

fn hand_over(line: &WorkstationLine, heir: &AccountRow, on: &mut Connection) -> Result<()> {
    let mut workstation = line.workstation.clone();
    if heir.id == workstation.account_id {
        return Err(ServiceError::Invalid("an account cannot inherit from itself".into()));
    }
    workstation.account_id.clone_from(&heir.id);
    Ok(workstation.update(on)?)
}
