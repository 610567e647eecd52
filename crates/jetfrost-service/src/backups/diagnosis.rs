//! Trying as a client would: each thing that a backup needs, in order, up to the first that is not so. Nothing stays behind.

use jetfrost_office::access::Act;
use jetfrost_office::capacity::LimitKind;
use jetfrost_types::{DestinationId, WorkstationId};
use jetfrost_wire::diagnosis::{DiagnoseFor, Diagnosis, DiagnosisLine, DiagnosisStep, LastDiagnosis, MOST_SENTENCE, MOST_STEPS};
use jetfrost_wire::size::show;

use crate::backups::Backups;
use crate::backups::agents::still_has;
use crate::backups::uploads::Upload;
use crate::clock::timestamp;
use crate::identity::accounts::account_named;
use crate::identity::grants::has_access;
use crate::records::{AccountRow, DestinationRow, DiagnosisRow, InJson, WorkstationLine, WorkstationRow};
use crate::shared::{Caller, Conflict, Disabled, Invalid, NoRoom, Result, ServiceError, Traffic, place, to_db};
use crate::storage::capacity::Purpose;

/// What is written where no workstation says what.
const PROBE: &[u8] = b"a probe, which may be removed";

/// There is room when this much more content would be taken.
const A_LITTLE: u64 = 1 << 20;

/// For whom it is tried: an account that could have a workstation there, or a workstation that is there.
struct Subject<'s> {
    account: &'s AccountRow,
    destination: &'s DestinationRow,
    line: Option<&'s WorkstationLine>,
}

/// What was looked at, up to the first thing that is not as it must be.
#[derive(Default)]
pub(crate) struct Looked {
    /// Steps that went well, with how they went.
    pub(crate) well: Vec<(DiagnosisStep, String)>,
    /// The one that did not.
    pub(crate) not: Option<(DiagnosisStep, ServiceError)>,
    /// Bytes that would be taken now, if that was found out.
    pub(crate) room: Option<u64>,
}

impl Backups {
    /// Tries for an account and a destination, from the server.
    pub(crate) fn diagnose(&self, caller: &Caller, destination: &DestinationId, ask: &DiagnoseFor) -> Result<Looked> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.read(|on| account_named(&ask.login, on))?;
        let destination = self.storage.destination_row(destination)?;
        self.diagnosis(&Subject { account: &account, destination: &destination, line: None })
    }

    /// Tries for the workstation that asks.
    pub(crate) fn diagnose_own(&self, caller: &Caller, workstation: &WorkstationId) -> Result<Looked> {
        let line = self.storage.line(caller, workstation)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        self.diagnosis(&Subject { account: &line.account, destination: &line.destination, line: Some(&line) })
    }

    fn diagnosis(&self, subject: &Subject<'_>) -> Result<Looked> {
        let all = [
            DiagnosisStep::Account,
            DiagnosisStep::Maintenance,
            DiagnosisStep::Destination,
            DiagnosisStep::Access,
            DiagnosisStep::Capacity,
            DiagnosisStep::WriteTest,
        ];
        let mut looked = Looked::default();
        for step in all {
            match self.try_step(step, subject, &mut looked.room) {
                Ok(says) => looked.well.push((step, says)),
                Err(error @ ServiceError::Records(_)) => return Err(error),
                Err(error) => {
                    looked.not = Some((step, error));
                    break;
                }
            }
        }
        Ok(looked)
    }

    fn try_step(&self, step: DiagnosisStep, subject: &Subject<'_>, found_room: &mut Option<u64>) -> Result<String> {
        let Subject { account, destination, line } = *subject;
        let name = &destination.name;
        match step {
            DiagnosisStep::Account if account.disabled.is_some() => Err(ServiceError::Disabled(Disabled::Account)),
            DiagnosisStep::Account => Ok(format!("The account '{}' can be used.", account.login)),
            DiagnosisStep::Maintenance => self.gate.check_backups().map(|()| "New backups are accepted.".into()),
            DiagnosisStep::Destination => {
                self.media.check(&place(destination))?;
                if destination.withdrawn.is_some() {
                    return Err(ServiceError::Withdrawn(name.clone()));
                }
                Ok(format!("The destination '{name}' is there, at {}.", destination.directory))
            }
            DiagnosisStep::Access => {
                match line {
                    Some(line) => self.takes_backups(line)?,
                    None => self.records.read(|on| has_access(account, destination, on))?,
                }
                Ok(format!("'{name}' grants access to '{}'.", account.login))
            }
            DiagnosisStep::Capacity => {
                let room = match line {
                    Some(line) => self.room_of_workstation(line)?,
                    None => self.room_of_account(account, destination)?,
                };
                *found_room = Some(room);
                Ok(format!("There is room for {}.", show(room)))
            }
            DiagnosisStep::WriteTest => {
                self.media.probe(&place(destination), PROBE)?;
                if let Some(line) = line {
                    self.storage.open_store(line)?;
                    let (id, version) = (&line.workstation.id, &line.workstation.client_version);
                    // As a run does at its beginning: the records must take it.
                    self.records
                        .write(|on| Ok::<_, ServiceError>(WorkstationRow::set_seen(id, self.clock.now(), version, on)?))?;
                }
                Ok("A probe was written, made durable, read back and removed.".into())
            }
            // The workstation's own.
            DiagnosisStep::Joined
            | DiagnosisStep::Name
            | DiagnosisStep::Discovery
            | DiagnosisStep::Port
            | DiagnosisStep::Identity
            | DiagnosisStep::Clock
            | DiagnosisStep::Credential
            | DiagnosisStep::RoundTrip
            | DiagnosisStep::History
            | DiagnosisStep::Keys
            | DiagnosisStep::Sources
            | DiagnosisStep::Room
            | DiagnosisStep::Network
            | DiagnosisStep::Agent
            | DiagnosisStep::Drill
            | DiagnosisStep::Proof => Err(ServiceError::Conflict(Conflict::NothingToDiagnose)),
        }
    }

    /// Whether the calling workstation may send a probe.
    pub(crate) fn takes_probe(&self, caller: &Caller, id: &WorkstationId) -> Result<WorkstationLine> {
        let line = self.storage.line(caller, id)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        self.gate.check_backups()?;
        self.takes_backups(&line)?;
        self.pace(&self.probes_begun, Traffic::Probes, line.workstation.id.as_str())?;
        Ok(line)
    }

    /// Writes a probe to the workstation's destination, makes it durable, and returns what is read back. Nothing of it stays.
    pub(crate) fn write_probe(&self, line: &WorkstationLine, probe: &[u8]) -> Result<Vec<u8>> {
        Ok(self.media.probe(&place(&line.destination), probe)?)
    }

    /// Keeps what a workstation found out about itself. It decides nothing: people read it.
    pub(crate) fn keep_diagnosis(&self, caller: &Caller, id: &WorkstationId, found: &Diagnosis) -> Result<LastDiagnosis> {
        let line = self.storage.line(caller, id)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        if found.steps.len() > MOST_STEPS {
            return Err(Invalid::TooManySteps(MOST_STEPS).into());
        }
        // What is handed out again has to be a number that callers can take.
        found.steps.iter().map(|line| line.ms).chain(found.room).try_for_each(|number| to_db(number).map(drop))?;
        self.pace(&self.reports_made, Traffic::Reports, line.workstation.id.as_str())?;
        let row = DiagnosisRow {
            workstation_id: line.workstation.id.clone(),
            at: self.clock.now(),
            found: InJson(Diagnosis { steps: found.steps.iter().map(readable).collect(), ..found.clone() }),
        };
        self.records.write(|on| {
            still_has(caller, on)?;
            Ok::<_, ServiceError>(row.put(on)?)
        })?;
        self.events.workstation_changed(id);
        Ok(last(Some(row)))
    }

    /// What a workstation found out about itself last.
    pub(crate) fn last_diagnosis(&self, caller: &Caller, id: &WorkstationId) -> Result<LastDiagnosis> {
        self.storage.line(caller, id)?;
        self.records.read(|on| Ok(last(DiagnosisRow::of(id, on)?)))
    }

    /// What a workstation may send now, by every limit that its run would meet.
    fn room_of_workstation(&self, line: &WorkstationLine) -> Result<u64> {
        let upload = Upload { store: self.storage.open_store(line)?.1, line: line.clone(), arrived: self.admission.arrived() };
        Ok(self.retention.room_for(&upload.line, &upload.store, A_LITTLE, Purpose::Content)?.left())
    }

    /// What a new workstation of an account could send to a destination.
    fn room_of_account(&self, account: &AccountRow, destination: &DestinationRow) -> Result<u64> {
        let levels = self.storage.levels_of_destination(destination)?.into_iter().chain(self.storage.quota_of(account)?);
        let left = levels.map(|(_, level)| (level, level.limit_for_content().saturating_sub(level.used)));
        let (level, left) = left.min_by_key(|(_, left)| *left).ok_or(ServiceError::Conflict(Conflict::NothingToDiagnose))?;
        if left >= A_LITTLE {
            return Ok(left);
        }
        let of = if level.bound == LimitKind::Quota { &account.login } else { &destination.name };
        Err(ServiceError::NoRoom(Box::new(NoRoom { level, of: of.clone(), wanted: A_LITTLE, left, comes: None })))
    }
}

fn last(row: Option<DiagnosisRow>) -> LastDiagnosis {
    let (at, found) = row.map(|row| (timestamp(row.at), row.found.0)).unzip();
    LastDiagnosis { at, found }
}

/// A line as it can be shown: what a machine says may be long, and hold what a terminal would obey.
fn readable(line: &DiagnosisLine) -> DiagnosisLine {
    let text = |text: &String| text.chars().filter(|c| !c.is_control()).take(MOST_SENTENCE).collect::<String>();
    DiagnosisLine { says: text(&line.says), next: line.next.as_ref().map(text), ..line.clone() }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::diagnosis::StepResult;
    use jetfrost_wire::problem::WhoseMove;
    use jetfrost_wire::service::{Maintenance, NewBackups};
    use jetfrost_wire::workstation::{AgentReport, NewProof, ProvedWith};

    use super::*;
    use crate::records::Ended;
    use crate::shared::Seen;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;

    fn line(says: &str) -> DiagnosisLine {
        let next = Some("Plug it in.".into());
        let whose_move = Some(WhoseMove::Workstation);
        DiagnosisLine { step: DiagnosisStep::Agent, result: StepResult::Noticed, says: says.into(), next, whose_move, ms: 3 }
    }

    #[test]
    fn what_a_workstation_found_is_its_own_word_and_can_be_shown() {
        let (office, machine) = office_with_points([]);
        let other = office.machine("tove", "back office");
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let found = Diagnosis { well: true, steps: vec![line("\u{1b}[2Jno\nagent"), line(&"x".repeat(9_000))], room: Some(7) };
        assert!(
            backups.keep_diagnosis(&other.caller, id, &found).is_err()
                && backups.keep_diagnosis(&office.ingrid, id, &found).is_err()
        );
        assert_eq!(backups.last_diagnosis(&office.ingrid, id).expect("there"), LastDiagnosis { at: None, found: None });
        backups.keep_diagnosis(&machine.caller, id, &found).expect("kept");
        let kept = backups.last_diagnosis(&office.ingrid, id).expect("there").found.expect("kept");
        assert_eq!((kept.steps[0].says.as_str(), kept.steps[1].says.len()), ("[2Jnoagent", MOST_SENTENCE));
        assert!(backups.last_diagnosis(&other.caller, id).is_err());
        let slow = DiagnosisLine { ms: u64::MAX, ..line("x") };
        for wrong in [
            Diagnosis { steps: vec![line("x"); MOST_STEPS + 1], ..found.clone() },
            Diagnosis { steps: vec![slow], ..found.clone() },
            Diagnosis { room: Some(u64::MAX), ..found.clone() },
        ] {
            assert!(matches!(backups.keep_diagnosis(&machine.caller, id, &wrong), Err(ServiceError::Invalid(_))));
        }
    }

    #[test]
    fn a_probe_comes_back_and_is_not_taken_without_end() {
        let (office, machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let line = backups.takes_probe(&machine.caller, id).expect("taken");
        assert_eq!(backups.write_probe(&line, b"content").expect("written"), b"content");
        let refused = (0..10_000).find_map(|_| backups.takes_probe(&machine.caller, id).err());
        assert!(matches!(refused, Some(ServiceError::TooOften { what: Traffic::Probes, .. })), "{refused:?}");
        // Nor is the log filled with what one says of itself.
        let proof = NewProof { secret: ProvedWith::Passphrase };
        let refused = (0..10_000).find_map(|_| backups.prove(&machine.caller, id, &proof).err());
        assert!(matches!(refused, Some(ServiceError::TooOften { what: Traffic::Reports, .. })), "{refused:?}");
        let found = Diagnosis { well: true, steps: Vec::new(), room: None };
        assert!(matches!(backups.keep_diagnosis(&machine.caller, id, &found), Err(ServiceError::TooOften { .. })));
    }

    #[test]
    fn whoever_has_a_credential_that_is_over_is_told_why() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let machine = office.machine("tove", "front desk");
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        backups.retire(&office.ingrid, id).expect("retired");
        let told = office.device(&machine.enrolled).err();
        assert!(
            matches!(&told, Some(ServiceError::FormerDevice { name, ended: Ended::Retired, .. }) if name == "front desk"),
            "{told:?}"
        );
        // Nor is anything noted that it began to say before.
        let found = Diagnosis { well: true, steps: Vec::new(), room: None };
        let said = [
            backups.keep_diagnosis(&machine.caller, id, &found).map(drop),
            backups.prove(&machine.caller, id, &NewProof { secret: ProvedWith::Passphrase }).map(drop),
            backups.report_agent(&machine.caller, id, &AgentReport::default()).map(drop),
        ];
        assert!(said.iter().all(|said| matches!(said, Err(ServiceError::UnknownDevice))), "{said:?}");
        assert_eq!(backups.last_diagnosis(&office.ingrid, id).expect("there").found, None);
    }

    #[test]
    fn no_probe_is_written_while_backups_are_paused() {
        let (office, machine) = office_with_points([]);
        let (services, id) = (&office.services, &machine.enrolled.workstation);
        let paused = Maintenance { backups: NewBackups::Off, restores: true };
        services.operations.set_maintenance(&office.ingrid, &paused, &Seen::Anything).expect("paused");
        let refused = services.backups.takes_probe(&machine.caller, id);
        assert!(matches!(refused, Err(ServiceError::Paused { .. })), "{:?}", refused.err());
    }
}
