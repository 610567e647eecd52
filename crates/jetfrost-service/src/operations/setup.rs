//! The set-up list, as it stands now.

use jetfrost_office::access::Act;
use jetfrost_office::setup::{OfficeFacts, can_be_dismissed, is_at_a_workstation, is_done};
use jetfrost_wire::destination::EncryptionPolicy;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::Role;
use jetfrost_wire::service::NewBackups;
use jetfrost_wire::setup::{Dismiss, Dismissal, Setup, Step, StepLine, StepState};

use crate::clock::timestamp;
use crate::identity::grants;
use crate::operations::Operations;
use crate::records::{DismissedRow, MailRow, StoreRow, Switches, WorkstationLine, limits, office_key, people};
use crate::retention::settings::checked_reason;
use crate::shared::{Caller, Invalid, Result, ServiceError, Thing, gate, place};

impl Operations {
    /// What is decided and what is not.
    pub(crate) fn setup(&self, caller: &Caller) -> Result<Setup> {
        caller.may(&Act::SeeOffice)?;
        let facts = self.office_facts()?;
        let dismissed = self.records.read(|on| Ok::<_, ServiceError>(DismissedRow::all(on)?))?;
        let line = |step: Step| {
            let row = dismissed.iter().find(|row| row.step.0 == step);
            let state = match (is_done(step, &facts), row) {
                (true, _) => StepState::Done,
                (false, Some(_)) => StepState::Dismissed,
                (false, None) => StepState::Open,
            };
            let (says, next) = words(step, &facts);
            StepLine {
                step,
                state,
                says,
                next: (state == StepState::Open).then(|| next.to_owned()),
                at_a_workstation: is_at_a_workstation(step),
                can_be_dismissed: can_be_dismissed(step),
                dismissed: row.filter(|_| state == StepState::Dismissed).map(|row| Dismissal {
                    why: row.why.clone(),
                    by: row.by.clone(),
                    at: timestamp(row.at),
                }),
            }
        };
        let steps: Vec<StepLine> = Step::ALL.iter().copied().map(line).collect();
        Ok(Setup { ready: steps.iter().all(|line| line.state != StepState::Open), steps })
    }

    /// Decides to leave a step as it is.
    pub(crate) fn dismiss_step(&self, caller: &Caller, step: &str, dismiss: &Dismiss) -> Result<Setup> {
        caller.may(&Act::ChangeOffice)?;
        let step = step_of(step)?;
        if !can_be_dismissed(step) {
            return Err(Invalid::CannotBeDismissed.into());
        }
        let why = checked_reason(&dismiss.why)?;
        let row = DismissedRow { step: step.into(), why, by: caller.name(), at: self.clock.now() };
        self.records.write(|on| {
            row.put(on)?;
            self.trail.note_change(caller, "setup step dismissed", step.word(), None, Some(&row.why), on)
        })?;
        self.events.tell(Event::Office);
        self.setup(caller)
    }

    /// Opens a step again that was left as it is.
    pub(crate) fn restore_step(&self, caller: &Caller, step: &str) -> Result<Setup> {
        caller.may(&Act::ChangeOffice)?;
        let step = step_of(step)?;
        self.records.write(|on| {
            DismissedRow::remove(step, on)?;
            self.trail.note(caller, "setup step restored", step.word(), on)
        })?;
        self.events.tell(Event::Office);
        self.setup(caller)
    }

    fn office_facts(&self) -> Result<OfficeFacts> {
        let offered: Vec<_> = self.storage.destination_rows()?.into_iter().filter(|row| row.withdrawn.is_none()).collect();
        let missing = offered.iter().filter(|row| self.media.check(&place(row)).is_err()).count() as u64;
        let protected = self.storage.protection()?.protected;
        let now = self.clock.now();
        self.records.read(|on| {
            let mut open = 0;
            for row in &offered {
                open += u64::from(!grants::grants(row, on)?.is_nobody());
            }
            let lines = WorkstationLine::all(None, on)?;
            let with_machine: Vec<_> = lines.iter().filter(|line| line.workstation.rest.is_none()).collect();
            let mail = MailRow::get(on)?;
            let (others, single) = people(Role::Administrator.word(), on)?;
            Ok(OfficeFacts {
                destinations: offered.len() as u64,
                missing,
                open,
                people: others.get(),
                limits: limits(on)?.get(),
                office_key: office_key(on)?.is_some(),
                protected,
                single_factor: single.get(),
                accepting_backups: gate::now(&Switches::get(on)?, now).backups == NewBackups::On,
                workstations: with_machine.len() as u64,
                pointless: with_machine.iter().filter(|line| line.latest_point.is_none()).count() as u64,
                drilled: StoreRow::drilled(on)?.get(),
                unencrypted: lines.iter().filter(|line| !line.store.encrypted).count() as u64,
                encryption_optional: offered.iter().filter(|row| row.encryption.0 == EncryptionPolicy::Optional).count() as u64,
                announced: self.announced(),
                mail_set: mail.is_some(),
                mail_taken: mail.is_some_and(|mail| mail.delivered.is_some() && mail.trouble.is_none()),
            })
        })
    }
}

/// How a step stands in a sentence, and what to do about it.
fn words(step: Step, facts: &OfficeFacts) -> (String, &'static str) {
    let some = |number: u64, one: &str| if number == 1 { format!("1 {one}") } else { format!("{number} {one}s") };
    let are = |number: u64, one: &str| format!("{} {}", some(number, one), if number == 1 { "is" } else { "are" });
    match step {
        Step::Storage if facts.missing > 0 => {
            (format!("{} missing.", are(facts.missing, "destination")), "mount its volume again")
        }
        Step::Storage => {
            (format!("{}.", some(facts.destinations, "destination")), "jetfrost destination volumes, then destination add")
        }
        Step::People => (format!("{} beside the administrators.", some(facts.people, "account")), "jetfrost account add LOGIN"),
        Step::Encryption if facts.encryption_optional > 0 => (
            format!("{} may hold image stores that are not encrypted.", some(facts.encryption_optional, "destination")),
            "jetfrost destination set NAME --encryption required",
        ),
        Step::Encryption if facts.unencrypted > 0 => (
            format!("{} not encrypted: whoever gets at the disk reads it.", are(facts.unencrypted, "image store")),
            "retire such a workstation and let its machine join anew",
        ),
        Step::Encryption => ("Every image store must be encrypted.".into(), ""),
        Step::Access => {
            (format!("{} with access granted.", some(facts.open, "destination")), "jetfrost access grant DESTINATION --everybody")
        }
        Step::Limits if facts.limits == 0 => (
            "No limit is set anywhere: history grows until a volume's reserve is met.".into(),
            "jetfrost destination set NAME --capacity SIZE, or --default-limit SIZE",
        ),
        Step::Limits => (format!("{} set.", some(facts.limits, "limit")), ""),
        Step::OfficeKey if facts.office_key => ("There is an office key.".into(), ""),
        Step::OfficeKey => ("There is no office key.".into(), "jetfrost escrow start FILE"),
        Step::Protection if facts.protected => ("The records are backed up.".into(), ""),
        Step::Protection => {
            ("The records are not backed up anywhere.".into(), "an office key and a destination; the copy follows by itself")
        }
        Step::SecondFactor if facts.single_factor == 0 => ("Every administrator has a second factor.".into(), ""),
        Step::SecondFactor => (
            format!("{} without a second factor.", some(facts.single_factor, "administrator")),
            "jetfrost me add-second-factor, by each of them",
        ),
        Step::Discovery if facts.announced => ("The service announces itself on the local network.".into(), ""),
        Step::Discovery => (
            "The service does not announce itself: workstations need its address.".into(),
            "jetfrost discovery announce; or give people the address",
        ),
        Step::Mail if !facts.mail_set => {
            ("Alerts are not sent by mail.".into(), "jetfrost mail set --server HOST --from ADDRESS --to ADDRESS, then mail test")
        }
        Step::Mail if facts.mail_taken => ("Alerts are sent by mail.".into(), ""),
        Step::Mail => ("The mail server has not accepted a message.".into(), "jetfrost mail test"),
        Step::Maintenance if facts.accepting_backups => ("New backups are accepted.".into(), ""),
        Step::Maintenance => ("New backups are paused.".into(), "jetfrost maintenance resume backups"),
        Step::FirstMachine => (
            format!("{}.", some(facts.workstations, "workstation")),
            "a code from 'jetfrost enrolment add LOGIN', and on that machine: jetfrost join CODE",
        ),
        Step::FirstPoint => (
            format!("{} without a complete point.", some(facts.pointless, "workstation")),
            "jetfrost include FOLDER, then jetfrost backup",
        ),
        Step::FirstDrill if facts.drilled == 0 => {
            ("No backup was shown to restore yet.".into(), "jetfrost drill; a backup counts once it was shown to restore")
        }
        Step::FirstDrill => (format!("{} shown to restore by a drill.", are(facts.drilled, "image store")), ""),
    }
}

fn step_of(text: &str) -> Result<Step> {
    Step::from_word(text).ok_or(ServiceError::NotFound(Thing::Step))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_and_several_are_said_as_people_say_them() {
        let says = |step, facts: OfficeFacts| words(step, &facts).0;
        let missing = |missing| says(Step::Storage, OfficeFacts { missing, ..OfficeFacts::default() });
        assert_eq!([missing(1), missing(2)], ["1 destination is missing.", "2 destinations are missing."]);
        let drilled = |drilled| says(Step::FirstDrill, OfficeFacts { drilled, ..OfficeFacts::default() });
        assert_eq!(drilled(1), "1 image store is shown to restore by a drill.");
        assert_eq!(drilled(11), "11 image stores are shown to restore by a drill.");
    }
}
