//! Figures for monitoring, and whether the service can do its work.

use jetfrost_office::access::Act;
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::event::Event;
use jetfrost_wire::workstation::WorkstationState;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

use crate::clock::Moment;
use crate::operations::Operations;
use crate::records::{WorkstationLine, write_nothing_new};
use crate::shared::{Caller, Result, ServiceError, Who, convert};

/// Whether the service can do its work.
pub(crate) enum Readiness {
    Ready,
    /// There are destinations, and none of them can be written to.
    NoDestination,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfState {
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfDestination {
    destination: String,
}

impl Operations {
    /// Figures in the OpenMetrics text format: counts, bytes and times, no names of people or machines. What is not known has no
    /// figure. The library ends each description with a full stop.
    pub(crate) fn metrics(&self) -> Result<String> {
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(None, on)?))?;
        let mut registry = Registry::with_prefix("jetfrost");
        self.count_workstations(&lines, &mut registry);
        count_destinations(&self.storage.all_destinations()?, &mut registry);
        count_drills(&lines, &mut registry);
        let ends = "When the certificate that browsers see ends, in Unix time";
        gauge("certificate_expiry_timestamp", ends, Some(Unit::Seconds), &mut registry)
            .set(self.installation.certificates.standing().ends / 1000);
        let mut text = String::new();
        encode(&mut text, &registry).expect("writing to a string does not fail");
        Ok(text)
    }

    fn count_workstations(&self, lines: &[WorkstationLine], registry: &mut Registry) {
        let family: Family<OfState, Gauge> = Family::default();
        registry.register("workstations", "Workstations by state", family.clone());
        let now = self.clock.now();
        for state in WorkstationState::ALL {
            family.get_or_create(&OfState { state: state.word() }).set(0);
        }
        for line in lines {
            let state = convert::workstation_state(line, now);
            family.get_or_create(&OfState { state: state.word() }).inc();
        }
    }

    /// Whether the service can do its work: the records can be written, and a destination, if there is one.
    pub(crate) fn readiness(&self) -> Result<Readiness> {
        self.records.write(|on| Ok::<_, ServiceError>(write_nothing_new(on)?))?;
        let destinations = self.storage.all_destinations()?;
        let takes = |destination: &Destination| destination.state == DestinationState::Ready;
        let is_ready = destinations.is_empty() || destinations.iter().any(takes);
        Ok(if is_ready { Readiness::Ready } else { Readiness::NoDestination })
    }

    /// Whether a caller may hear of a change, where that can be said without a look at the records. Of hundreds of agents, each hears
    /// of its own workstation.
    pub(crate) fn hears_without_looking(&self, caller: &Caller, event: &Event) -> Option<bool> {
        match (event, &caller.who) {
            (Event::Schedules, _) => Some(true),
            (_, Who::Device { workstation: own }) => Some(event.workstation() == Some(&own.id.0)),
            (Event::Office, Who::Person { .. }) => Some(caller.may(&Act::SeeOffice).is_ok()),
            (_, Who::Person { .. }) => caller.may(&Act::SeeOffice).is_ok().then_some(true),
        }
    }

    /// Whether a caller may hear of a change.
    pub(crate) fn may_hear(&self, caller: &Caller, event: &Event) -> bool {
        self.hears_without_looking(caller, event).unwrap_or_else(|| {
            let workstation = event.workstation();
            workstation.is_some_and(|workstation| self.storage.line(caller, workstation).is_ok())
        })
    }
}

fn gauge(name: &str, help: &str, unit: Option<Unit>, registry: &mut Registry) -> Gauge {
    let gauge = Gauge::default();
    match unit {
        Some(unit) => registry.register_with_unit(name, help, unit, gauge.clone()),
        None => registry.register(name, help, gauge.clone()),
    }
    gauge
}

fn count_destinations(destinations: &[Destination], registry: &mut Registry) {
    let by_state: Family<OfState, Gauge> = Family::default();
    registry.register("destinations", "Destinations by state", by_state.clone());
    for state in DestinationState::ALL {
        by_state.get_or_create(&OfState { state: state.word() }).set(0);
    }
    let [room, used] =
        [("destination_room", "Bytes that can still be stored"), ("destination_used", "Bytes in use")].map(|(name, help)| {
            let family: Family<OfDestination, Gauge> = Family::default();
            registry.register_with_unit(name, help, Unit::Bytes, family.clone());
            family
        });
    for destination in destinations {
        by_state.get_or_create(&OfState { state: destination.state.word() }).inc();
        let label = OfDestination { destination: destination.id.to_string() };
        for (family, bytes) in [(&room, destination.room), (&used, destination.used)] {
            if let Some(bytes) = bytes {
                family.get_or_create(&label).set(i64::try_from(bytes).unwrap_or(i64::MAX));
            }
        }
    }
}

/// When restores were last shown to work: the latest drill of each workstation that brought everything back.
fn count_drills(lines: &[WorkstationLine], registry: &mut Registry) {
    let drilled: Vec<Moment> = lines.iter().filter_map(|line| line.store.drilled).collect();
    let without = lines.len() - drilled.len();
    gauge("workstations_without_drill", "Workstations whose restore was never drilled", None, registry)
        .set(i64::try_from(without).unwrap_or(i64::MAX));
    let failed = lines.iter().filter(|line| line.store.drill_failed.is_some()).count();
    gauge("workstations_drill_failed", "Workstations whose latest drill did not bring everything back", None, registry)
        .set(i64::try_from(failed).unwrap_or(i64::MAX));
    let help = "The latest drills of workstations, the one that is longest ago, in Unix time";
    if let Some(oldest) = drilled.into_iter().min() {
        gauge("drill_oldest_timestamp", help, Some(Unit::Seconds), registry).set(oldest.ms() / 1000);
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;

    #[test]
    fn a_member_hears_of_their_own_workstations_alone() {
        let office = Office::open();
        office.destination("shelf");
        let (tove, liv) = (office.person("tove", Role::Member), office.person("liv", Role::Member));
        let machine = office.machine("tove", "front desk");
        let event = Event::Workstation { workstation: machine.enrolled.workstation.clone() };
        let hears = |who| office.services.operations.may_hear(who, &event);
        assert_eq!((hears(&tove), hears(&liv), hears(&office.ingrid)), (true, false, true));
    }

    #[test]
    fn the_metrics_count_workstations_and_name_neither_people_nor_machines() {
        let (office, _machine) = office_with_points([b"one"]);
        let text = office.services.operations.metrics().expect("counted");
        assert!(text.ends_with("# EOF\n"), "{text}");
        assert!(text.contains("jetfrost_workstations{state=\"current\"} 1\n"), "{text}");
        assert!(
            ["front desk", "tove", "shelf"].iter().all(|name| !text.contains(name)),
            "whoever scrapes is not signed in: {text}"
        );
    }
}
