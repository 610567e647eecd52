//! What needs somebody's attention.

use jetfrost_office::access::Act;
use jetfrost_office::attention::{self, Concern, Kind, MachineFacts, PlaceFacts};
use jetfrost_wire::attention::{Attention, Concern as ConcernLine, ConcernKind};
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::workstation::WorkstationState;

use super::convert::{self, from_db};
use super::{Caller, Desk, DeskError, Result};
use crate::clock::timestamp;
use crate::records::WorkstationLine;

/// All workstations are looked at together.
const ALL: usize = 100_000;

impl Desk {
    /// All that needs attention now, the worst first.
    pub(crate) fn attention(&self, caller: &Caller) -> Result<Attention> {
        caller.may(&Act::SeeOffice)?;
        Ok(Attention { now: timestamp(self.now()), concerns: self.concerns()?.iter().map(line).collect() })
    }

    pub(super) fn concerns(&self) -> Result<Vec<Concern>> {
        let places: Vec<PlaceFacts> = self.all_destinations()?.iter().map(facts_of).collect();
        let now = self.now();
        let lines = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(None, "", ALL, on)?))?;
        let machine = |line: &WorkstationLine| MachineFacts {
            name: line.workstation.name.clone(),
            overdue: convert::workstation_state(&line.workstation, line.latest_point.as_ref(), now) == WorkstationState::Overdue,
            lost_chunks: from_db(line.store.lost_chunks),
            drill_failed: line.store.drill_failed.is_some(),
        };
        let machines: Vec<MachineFacts> = lines.iter().filter(|line| line.store.leaves.is_none()).map(machine).collect();
        let protection = self.protection()?;
        let unprotected = protection.office_key.is_some() && protection.copied.is_some() && !protection.protected;
        Ok(attention::concerns(&places, &machines, unprotected))
    }
}

fn facts_of(destination: &Destination) -> PlaceFacts {
    PlaceFacts {
        name: destination.name.clone(),
        missing: matches!(destination.state, DestinationState::Missing | DestinationState::Foreign),
        full: destination.state == DestinationState::Full,
    }
}

/// A concern with what is wrong and what to do.
pub(super) fn line(concern: &Concern) -> ConcernLine {
    let Concern { kind, subject } = concern;
    let (says, next) = match kind {
        Kind::Damage => (
            format!("Pieces of the image store of '{subject}' are damaged or gone."),
            format!("jetfrost scrub show {subject}; what the machine still has comes again with its next backup."),
        ),
        Kind::DestinationMissing => (
            format!("The destination '{subject}' is missing."),
            format!("jetfrost destination show {subject}; mount its volume again."),
        ),
        Kind::DestinationFull => (
            format!("The destination '{subject}' is full: no backup gets in."),
            format!(
                "jetfrost destination set {subject} --capacity SIZE or --at-limit let-oldest-go, or more room on its volume."
            ),
        ),
        Kind::DrillFailed => (
            format!("The last drill of '{subject}' did not bring everything back as it was."),
            format!("On {subject}: jetfrost drill says what; jetfrost scrub start {subject} looks at the stored bytes."),
        ),
        Kind::RecordsUnprotected => (
            "The last copy of this server's own records is too old.".into(),
            "jetfrost destination list; one of them must be there.".into(),
        ),
        Kind::Overdue => (
            format!("The last complete point of '{subject}' is too old."),
            format!("jetfrost workstation show {subject}; see whether the machine is on and reaches the service."),
        ),
    };
    ConcernLine { kind: shown(*kind), subject: subject.clone(), says, next }
}

pub(super) fn shown(kind: Kind) -> ConcernKind {
    match kind {
        Kind::Damage => ConcernKind::Damage,
        Kind::DestinationMissing => ConcernKind::DestinationMissing,
        Kind::DestinationFull => ConcernKind::DestinationFull,
        Kind::DrillFailed => ConcernKind::DrillFailed,
        Kind::RecordsUnprotected => ConcernKind::RecordsUnprotected,
        Kind::Overdue => ConcernKind::Overdue,
    }
}
