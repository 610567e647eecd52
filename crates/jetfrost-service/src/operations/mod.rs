//! Running the service: setup, alerts and mail, discovery, maintenance, settings, figures, and what falls due by itself.

mod alerts;
mod certificates;
mod discovery;
mod downloads;
mod due;
mod field_rules;
mod mail;
mod maintenance;
mod metrics;
mod search;
mod settings;
mod setup;
mod sizing;
mod today;

use std::sync::Arc;

use jetfrost_image::crypto::Random;
use jiff::tz::TimeZone;

use crate::announcer::Announcer;
use crate::clock::Clock;
use crate::events::Events;
use crate::identity::Identity;
use crate::mailer::Mailer;
use crate::media::Media;
use crate::records::Records;
use crate::retention::Retention;
use crate::shared::{Basis, Installation, Trail};
use crate::storage::Storage;

pub(crate) use metrics::Readiness;

/// The use cases about the service itself.
pub(crate) struct Operations {
    records: Records,
    media: Arc<Media>,
    clock: Arc<dyn Clock>,
    random: Arc<dyn Random>,
    events: Events,
    trail: Arc<Trail>,
    installation: Installation,
    /// Where days begin.
    zone: TimeZone,
    identity: Arc<Identity>,
    storage: Arc<Storage>,
    retention: Arc<Retention>,
    announcer: Arc<Announcer>,
    mailer: Mailer,
}

impl Operations {
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
            installation: basis.installation.clone(),
            zone: basis.zone.clone(),
            media,
            identity,
            storage,
            retention,
            announcer: Arc::clone(&basis.announcer),
            mailer: Mailer::default(),
        }
    }
}
