//! An account goes, and what becomes of its workstations: another account takes them, or they are retired, or removed like any other
//! image store, after their protected time and with nothing on hold.

use jetfrost_office::access::Act;
use jetfrost_types::AccountId;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{AccountRemoval, WorkstationsGo};

use crate::backups::Backups;
use crate::identity::accounts::{account_named, stays_administered};
use crate::records::{AccountRow, CodeRow, Connection, Removal, SessionRow, WorkstationLine};
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, Thing, Who};
use crate::storage::removal;

impl Backups {
    /// Removes an account. What becomes of its workstations must be said if it has any.
    pub(crate) fn remove_account(&self, caller: &Caller, id: &AccountId, removal: &AccountRemoval) -> Result<()> {
        caller.may(&Act::ChangeOffice)?;
        if matches!(&caller.who, Who::Person { account, .. } if *account.id == *id) {
            return Err(ServiceError::Conflict(Conflict::OwnAccount));
        }
        self.records.write(|on| {
            let mut row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            stays_administered(&row, on)?;
            let lines = WorkstationLine::all(Some(&row.id), on)?;
            let fate = match &removal.workstations {
                Some(fate) => self.part_from(caller, &lines, fate, on)?,
                None if lines.is_empty() => String::new(),
                None => {
                    let names: Vec<&str> = lines.iter().map(|line| line.workstation.name.as_str()).collect();
                    return Err(Invalid::HasWorkstations(names.join(", ")).into());
                }
            };
            SessionRow::end_all(&row.id, None, on)?;
            CodeRow::cancel_open_of(&row.id, self.clock.now(), on)?;
            row.leave_everything(on)?;
            self.trail.note_change(caller, "account removed", &row.login, None, Some(&fate), on)?;
            row.removed = Some(self.clock.now());
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
        Ok(line.workstation.clone().cut_off(self.clock.now(), &caller.name(), on)?)
    }

    fn remove_with_account(&self, caller: &Caller, line: &WorkstationLine, on: &mut Connection) -> Result<()> {
        let now = self.clock.now();
        let protected = removal::one_of_several_protected_until(line, now, on)?;
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
        return Err(Invalid::OwnHeir.into());
    }
    workstation.account_id.clone_from(&heir.id);
    Ok(workstation.update(on)?)
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::retention::NewHold;

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::Machine;

    fn office() -> (Office, Machine, AccountId) {
        let office = Office::open();
        office.destination("shelf");
        let tove = office.person("tove", Role::Member);
        let mut machine = office.machine("tove", "front desk");
        machine.back_up(&office, b"one").expect("a point");
        let id = office.services.identity.me(&tove).expect("there").id;
        (office, machine, id)
    }

    #[test]
    fn an_account_goes_only_when_it_is_said_what_becomes_of_its_workstations() {
        let (office, machine, id) = office();
        let remove = |workstations| office.services.backups.remove_account(&office.ingrid, &id, &AccountRemoval { workstations });
        let refused = remove(None);
        assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::HasWorkstations(names))) if names == "front desk"));
        let to = |login: &str| Some(WorkstationsGo::To { login: login.into() });
        assert!(matches!(remove(to("tove")), Err(ServiceError::Invalid(Invalid::OwnHeir))));
        assert!(matches!(remove(to("nobody")), Err(ServiceError::Invalid(Invalid::Unknown { what: Thing::Account, .. }))));
        remove(to("ingrid")).expect("handed over");
        let heir = office.services.backups.workstation(&office.ingrid, &machine.enrolled.workstation).expect("there").login;
        assert_eq!(heir, "ingrid");
        assert!(office.device(&machine.enrolled).is_ok(), "the machine goes on");
    }

    #[test]
    fn nothing_of_an_account_goes_while_one_of_its_points_is_on_hold() {
        let (office, machine, id) = office();
        let retention = &office.services.retention;
        retention.hold_point(&office.ingrid, machine.store(), 1, &NewHold { reason: "a dispute".into() }).expect("held");
        let removal = AccountRemoval { workstations: Some(WorkstationsGo::Remove) };
        let refused = office.services.backups.remove_account(&office.ingrid, &id, &removal);
        assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::OnHold(name))) if name == "front desk"));
        office.services.identity.account(&office.ingrid, &id).expect("the account is there");
        assert!(office.device(&machine.enrolled).is_ok(), "so is the workstation");
    }

    #[test]
    fn nobody_removes_themselves_or_the_last_administrator() {
        let (office, _, _) = office();
        let own = office.services.identity.me(&office.ingrid).expect("there").id;
        let refused = office.services.backups.remove_account(&office.ingrid, &own, &AccountRemoval { workstations: None });
        assert!(matches!(refused, Err(ServiceError::Conflict(Conflict::OwnAccount | Conflict::LastAdministrator))));
    }
}
