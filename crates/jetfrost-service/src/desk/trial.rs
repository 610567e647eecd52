//! Trying as a client would: each thing that a backup needs, in order, up to the first that is not so. Nothing stays behind.

use jetfrost_office::access::Act;
use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::size::show;
use jetfrost_wire::trial::{Trial, TrialLine, TrialStep, TryFor};

use super::people::account_named;
use super::{Caller, Desk, DeskError, Result, place};
use crate::records::{AccountRow, DestinationRow};

impl Desk {
    /// Tries for an account and a destination, from the server.
    pub(crate) fn try_for(&self, caller: &Caller, destination: &str, ask: &TryFor) -> Result<Trial> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.read(|on| account_named(&ask.login, on))?;
        self.trial(&account, &self.destination_row(destination)?)
    }

    /// Tries for the workstation that asks.
    pub(crate) fn try_own(&self, caller: &Caller, workstation: &str) -> Result<Trial> {
        let line = self.line(caller, workstation)?;
        caller.may(&Act::AddToStore { workstation: &line.workstation.id })?;
        self.trial(&line.account, &line.destination)
    }

    fn trial(&self, account: &AccountRow, destination: &DestinationRow) -> Result<Trial> {
        let all = [
            TrialStep::Account,
            TrialStep::Admission,
            TrialStep::Destination,
            TrialStep::Access,
            TrialStep::Room,
            TrialStep::Probe,
        ];
        let mut steps = Vec::new();
        for step in all {
            let line = match self.try_step(step, account, destination) {
                Ok(says) => TrialLine { step, well: true, says, next: None, whose_move: None },
                Err(error) => not_well(step, error)?,
            };
            let well = line.well;
            steps.push(line);
            if !well {
                break;
            }
        }
        Ok(Trial { well: steps.iter().all(|line| line.well), steps })
    }

    fn try_step(&self, step: TrialStep, account: &AccountRow, destination: &DestinationRow) -> Result<String> {
        let name = &destination.name;
        match step {
            TrialStep::Account if account.disabled.is_some() => Err(DeskError::Disabled("this account is disabled")),
            TrialStep::Account => Ok(format!("The account '{}' can be used.", account.login)),
            TrialStep::Admission => self.backups_are_let_in().map(|()| "Backups are let in.".into()),
            TrialStep::Destination => {
                self.shelf.check(&place(destination))?;
                if destination.withdrawn.is_some() {
                    return Err(DeskError::Withdrawn(name.clone()));
                }
                Ok(format!("The destination '{name}' is there, at {}.", destination.directory))
            }
            TrialStep::Access => {
                self.records.read(|on| Self::has_access(account, destination, on))?;
                Ok(format!("'{name}' is open to '{}'.", account.login))
            }
            TrialStep::Room => {
                let levels = self.levels_of_destination(destination)?;
                let (level, room) = levels
                    .iter()
                    .map(|(_, level)| (*level, level.room()))
                    .min_by_key(|(_, room)| *room)
                    .ok_or(DeskError::Conflict("the destination has no limit that could be looked at"))?;
                if room == 0 {
                    let of = name.clone();
                    return Err(DeskError::NoRoom(Box::new(super::NoRoom { level, of, wanted: 1, left: 0 })));
                }
                Ok(format!("There is room for {}.", show(room)))
            }
            TrialStep::Probe => {
                self.shelf.probe(&place(destination))?;
                Ok("A probe was written, made durable, read back and removed.".into())
            }
        }
    }
}

/// A step that did not go well, in the words that the same refusal has everywhere.
fn not_well(step: TrialStep, error: DeskError) -> Result<TrialLine> {
    if matches!(error, DeskError::Records(_)) {
        return Err(error);
    }
    let problem = crate::http::Trouble::from(error).into_problem();
    let whose_move = if problem.whose_move == WhoseMove::Caller { WhoseMove::Administrator } else { problem.whose_move };
    Ok(TrialLine { step, well: false, says: problem.title, next: Some(problem.next_step), whose_move: Some(whose_move) })
}
