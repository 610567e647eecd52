//! Backups and restores: workstations and how they join, runs and what they send, restores, unlock methods.

mod admission;
mod agents;
mod departures;
mod diagnosis;
mod enrolment;
mod hand_outs;
mod orders;
mod restores;
mod roster;
mod runs;
mod schedules;
mod unlock_methods;
mod uploads;
mod workstation_list;
mod workstations;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use jetfrost_image::crypto::Random;
use jetfrost_office::pace::Pace;
use jiff::tz::TimeZone;

use crate::announcer::Announcer;
use crate::clock::{Clock, Moment};
use crate::events::Events;
use crate::identity::Identity;
use crate::media::Media;
use crate::records::Records;
use crate::retention::Retention;
use crate::shared::gate::Gate;
use crate::shared::{Basis, Installation, Trail};
use crate::storage::Storage;
use jetfrost_types::ImageStoreId;

use admission::Admission;

pub(crate) use diagnosis::Looked;
pub(crate) use schedules::Scheduled;
pub(crate) use uploads::Arriving;

/// Runs of a workstation, and restores of a person or a workstation, that may be begun within an hour.
const MOST_RUNS: u32 = 120;
const MOST_RESTORES: u32 = 240;
/// Probes of a workstation that may be written within an hour: a few for each diagnosis.
const MOST_PROBES: u32 = 240;
/// Diagnoses and proofs of a workstation that are put on record within an hour.
const MOST_REPORTS: u32 = 60;

/// The use cases about workstations and what they send and fetch.
pub(crate) struct Backups {
    records: Records,
    media: Arc<Media>,
    clock: Arc<dyn Clock>,
    random: Arc<dyn Random>,
    events: Events,
    trail: Arc<Trail>,
    gate: Gate,
    announcer: Arc<Announcer>,
    installation: Installation,
    /// Where days begin.
    zone: TimeZone,
    identity: Arc<Identity>,
    storage: Arc<Storage>,
    retention: Arc<Retention>,
    /// Which runs go on at once.
    admission: Admission,
    /// Runs, restores, probes and reports of the hour, by who made them.
    runs_begun: Mutex<Pace>,
    restores_begun: Mutex<Pace>,
    probes_begun: Mutex<Pace>,
    reports_made: Mutex<Pace>,
    /// Until when it need not be asked whether a reading of a store is on record.
    readings: Mutex<BTreeMap<(String, ImageStoreId), Moment>>,
}

impl Backups {
    pub(crate) fn new(
        basis: &Basis,
        media: Arc<Media>,
        identity: Arc<Identity>,
        storage: Arc<Storage>,
        retention: Arc<Retention>,
    ) -> Self {
        Self {
            records: basis.records.clone(),
            clock: Arc::clone(&basis.clock),
            random: Arc::clone(&basis.random),
            events: basis.events.clone(),
            trail: Arc::clone(&basis.trail),
            gate: Gate::new(basis.records.clone(), Arc::clone(&basis.clock)),
            announcer: Arc::clone(&basis.announcer),
            installation: basis.installation.clone(),
            zone: basis.zone.clone(),
            media,
            identity,
            storage,
            retention,
            admission: Admission::default(),
            runs_begun: Mutex::new(Pace::new(MOST_RUNS)),
            restores_begun: Mutex::new(Pace::new(MOST_RESTORES)),
            probes_begun: Mutex::new(Pace::new(MOST_PROBES)),
            reports_made: Mutex::new(Pace::new(MOST_REPORTS)),
            readings: Mutex::default(),
        }
    }
}
