//! Whether backups and restores are let in.

use jetfrost_office::access::Act;
use jetfrost_wire::event::Event;
use jetfrost_wire::run::Outcome;
use jetfrost_wire::service::{Accepting, Admission, AdmissionState};

use super::versions::{Made, Seen, version};
use super::{Caller, Desk, DeskError, Result};
use crate::clock::timestamp;
use crate::records::{RestoreRow, RunRow, Switches, WorkstationLine};

const ON: &str = "on";
const PAUSED: &str = "paused";
const OFF: &str = "off";

impl Desk {
    /// What is let in, and what is underway.
    pub(crate) fn admission(&self, caller: &Caller) -> Result<AdmissionState> {
        caller.may(&Act::SeeOffice)?;
        let now = self.now();
        self.records.read(|on| {
            let underway = Outcome::Underway.word();
            let lost = |heard: i64| jetfrost_office::standing::is_lost(heard, now);
            let mut running = Vec::new();
            for run in RunRow::with_outcome(underway, on)?.into_iter().filter(|run| !lost(run.last_heard)) {
                running.extend(WorkstationLine::by_id(&run.workstation_id, on)?.map(|line| line.workstation.name));
            }
            let restoring = RestoreRow::with_outcome(underway, on)?.iter().filter(|row| !lost(row.last_heard)).count();
            let admission = self::now(&Switches::get(on)?, now);
            Ok(AdmissionState { version: version(&admission), admission, running, restoring: restoring as u64 })
        })
    }

    /// Sets what is let in. It counts at once; what is underway comes to its end.
    pub(crate) fn set_admission(&self, caller: &Caller, to: &Admission, seen: &Seen) -> Result<AdmissionState> {
        caller.may(&Act::ChangeOffice)?;
        let now = self.now();
        let (accepting, paused_until) = match to.backups {
            Accepting::On => (ON, None),
            Accepting::Off => (OFF, None),
            Accepting::Paused { until } if until.as_millisecond() > now => (PAUSED, Some(until.as_millisecond())),
            Accepting::Paused { .. } => return Err(DeskError::Invalid("a pause ends in the future".into())),
        };
        let switches = Switches { accepting: accepting.into(), paused_until, restores_stopped: !to.restores };
        self.records.write(|on| {
            let before = self::now(&Switches::get(on)?, now);
            seen.check(&version(&before), &Made { subject: None, after: &said(&before) }, on)?;
            let before = said(&before);
            switches.set(on)?;
            self.audit_change(caller, "admission changed", "", Some(&before), Some(&said(to)), on)
        })?;
        // Who is not let in is not to be invited.
        self.keep_announced()?;
        self.events.tell(Event::Office);
        self.admission(caller)
    }

    /// Refuses while backups are not let in.
    pub(super) fn backups_are_let_in(&self) -> Result<()> {
        let now = self.now();
        let switches = self.records.read(|on| Ok::<_, DeskError>(Switches::get(on)?))?;
        match self::now(&switches, now).backups {
            Accepting::On => Ok(()),
            Accepting::Paused { until } => {
                let until = until.as_millisecond();
                let wait = u64::try_from(until.saturating_sub(now)).unwrap_or(0).div_ceil(1000).max(1);
                Err(DeskError::NotLetIn { what: "backups", until: Some((until, wait)) })
            }
            Accepting::Off => Err(DeskError::NotLetIn { what: "backups", until: None }),
        }
    }

    /// Refuses while restores are not let in.
    pub(super) fn restores_are_let_in(&self) -> Result<()> {
        let switches = self.records.read(|on| Ok::<_, DeskError>(Switches::get(on)?))?;
        if switches.restores_stopped { Err(DeskError::NotLetIn { what: "restores", until: None }) } else { Ok(()) }
    }
}

/// What the switches say now: a pause ends by itself.
pub(super) fn now(switches: &Switches, now: i64) -> Admission {
    let backups = match (switches.accepting.as_str(), switches.paused_until) {
        (OFF, _) => Accepting::Off,
        (PAUSED, Some(until)) if until > now => Accepting::Paused { until: timestamp(until) },
        _ => Accepting::On,
    };
    Admission { backups, restores: !switches.restores_stopped }
}

fn said(admission: &Admission) -> String {
    let backups = match admission.backups {
        Accepting::On => "on".to_owned(),
        Accepting::Paused { until } => format!("paused until {until}"),
        Accepting::Off => "off".to_owned(),
    };
    format!("backups {backups}, restores {}", if admission.restores { "on" } else { "off" })
}
