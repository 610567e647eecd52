//! Trying as a client would: each thing that a backup needs, in order, up to the first that is not so. Nothing stays behind.

use jetfrost_office::access::Act;
use jetfrost_office::capacity::LimitKind;
use jetfrost_types::{DestinationId, WorkstationId};
use jetfrost_wire::diagnosis::{DiagnoseFor, DiagnosisStep};
use jetfrost_wire::size::show;

use crate::backups::Backups;
use crate::backups::uploads::Upload;
use crate::identity::accounts::account_named;
use crate::identity::grants::has_access;
use crate::records::{AccountRow, DestinationRow, WorkstationLine, WorkstationRow};
use crate::shared::{Caller, Conflict, Disabled, NoRoom, Result, ServiceError, place};
use crate::storage::capacity::Purpose;

/// There is room when this much more content would be taken.
const A_LITTLE: u64 = 1 << 20;

/// For whom it is tried: an account that could have a workstation there, or a workstation that is there.
struct Subject<'s> {
    account: &'s AccountRow,
    destination: &'s DestinationRow,
    line: Option<&'s WorkstationLine>,
}

/// What was looked at, up to the first thing that is not as it must be.
pub(crate) struct Looked {
    /// Steps that went well, with how they went.
    pub(crate) well: Vec<(DiagnosisStep, String)>,
    /// The one that did not.
    pub(crate) not: Option<(DiagnosisStep, ServiceError)>,
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
        let mut looked = Looked { well: Vec::new(), not: None };
        for step in all {
            match self.try_step(step, subject) {
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

    fn try_step(&self, step: DiagnosisStep, subject: &Subject<'_>) -> Result<String> {
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
                Ok(format!("There is room for {}.", show(room)))
            }
            DiagnosisStep::WriteTest => {
                self.media.probe(&place(destination))?;
                if let Some(line) = line {
                    self.storage.open_store(line)?;
                    let (id, version) = (&line.workstation.id, &line.workstation.client_version);
                    // As a run does at its beginning: the records must take it.
                    self.records
                        .write(|on| Ok::<_, ServiceError>(WorkstationRow::set_seen(id, self.clock.now(), version, on)?))?;
                }
                Ok("A probe was written, made durable, read back and removed.".into())
            }
        }
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
