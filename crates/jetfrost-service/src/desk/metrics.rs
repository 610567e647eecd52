//! Figures for monitoring.

use std::fmt::Write;

use jetfrost_office::access::Act;
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::event::Event;
use jetfrost_wire::workstation::WorkstationState;

use super::{Caller, Desk, DeskError, Result, convert};
use crate::records::{WorkstationLine, write_nothing_new};

const ALL: usize = 2000;

/// Whether the service can do its work.
pub(crate) enum Readiness {
    Ready,
    /// There are destinations, and none of them can be written to.
    NoDestination,
}

impl Desk {
    /// Figures in the OpenMetrics text format: counts only, no names of people or machines.
    pub(crate) fn metrics(&self) -> Result<String> {
        let lines = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(None, "", ALL, on)?))?;
        let count = |state| {
            let now = self.now();
            let state_of = |l: &WorkstationLine| convert::workstation_state(&l.workstation, l.latest_point.as_ref(), now);
            lines.iter().filter(|line| state_of(line) == state).count()
        };
        let mut text = String::from("# TYPE jetfrost_workstations gauge\n# HELP jetfrost_workstations Workstations by state.\n");
        for (state, word) in [
            (WorkstationState::Current, "current"),
            (WorkstationState::Overdue, "overdue"),
            (WorkstationState::FirstPointAwaited, "first_point_awaited"),
        ] {
            let _ = writeln!(text, "jetfrost_workstations{{state=\"{word}\"}} {}", count(state));
        }
        text.push_str("# TYPE jetfrost_destination_room_bytes gauge\n# UNIT jetfrost_destination_room_bytes bytes\n");
        text.push_str("# HELP jetfrost_destination_room_bytes Bytes that can still be stored.\n");
        for destination in self.all_destinations()? {
            let _ = writeln!(
                text,
                "jetfrost_destination_room_bytes{{destination=\"{}\"}} {}",
                destination.id,
                destination.room.unwrap_or(0)
            );
        }
        text.push_str("# EOF\n");
        Ok(text)
    }

    /// Whether the service can do its work: the records can be written, and a destination, if there is one.
    pub(crate) fn readiness(&self) -> Result<Readiness> {
        self.records.write(|on| Ok::<_, DeskError>(write_nothing_new(on)?))?;
        let destinations = self.all_destinations()?;
        let takes = |destination: &Destination| destination.state == DestinationState::Ready;
        let is_ready = destinations.is_empty() || destinations.iter().any(takes);
        Ok(if is_ready { Readiness::Ready } else { Readiness::NoDestination })
    }

    /// Whether a caller hears of everything, without a look at the records.
    pub(crate) fn hears_all(&self, caller: &Caller) -> bool {
        caller.may(&Act::SeeOffice).is_ok()
    }

    /// Whether a caller may hear of a change.
    pub(crate) fn may_hear(&self, caller: &Caller, event: &Event) -> bool {
        let workstation = match event {
            Event::Office => return caller.may(&Act::SeeOffice).is_ok(),
            Event::Run { run } => &run.workstation,
            Event::Restore { restore } => &restore.workstation,
            Event::Job { job } => &job.workstation,
            Event::Workstation { workstation } => workstation,
        };
        caller.may(&Act::SeeOffice).is_ok() || self.line(caller, &workstation.0).is_ok()
    }
}
