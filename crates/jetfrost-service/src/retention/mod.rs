//! What is kept: rules and holds, thinning, room at a limit, scrubs, and the jobs that do long work.

mod integrity;
mod jobs;
mod room;
pub(crate) mod settings;
mod suspects;
pub(crate) mod thinning;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use jetfrost_image::crypto::Random;
use jiff::tz::TimeZone;

use crate::clock::Clock;
use crate::events::Events;
use crate::identity::Identity;
use crate::media::Media;
use crate::records::Records;
use crate::shared::{Basis, Trail};
use crate::storage::Storage;
use jetfrost_types::ImageStoreId;
use jobs::Jobs;
use room::Headroom;
pub(crate) use room::Room;

/// The use cases about what stays and what goes.
pub(crate) struct Retention {
    records: Records,
    media: Arc<Media>,
    clock: Arc<dyn Clock>,
    random: Arc<dyn Random>,
    events: Events,
    trail: Arc<Trail>,
    /// Where days begin.
    zone: TimeZone,
    identity: Arc<Identity>,
    storage: Arc<Storage>,
    jobs: Jobs,
    /// What each image store's oldest points would free, as it was last looked.
    headroom: Mutex<BTreeMap<ImageStoreId, Headroom>>,
}

impl Retention {
    pub(crate) fn new(basis: &Basis, media: Arc<Media>, identity: Arc<Identity>, storage: Arc<Storage>) -> Self {
        Self {
            records: basis.records.clone(),
            clock: Arc::clone(&basis.clock),
            random: Arc::clone(&basis.random),
            events: basis.events.clone(),
            trail: Arc::clone(&basis.trail),
            zone: basis.zone.clone(),
            media,
            identity,
            storage,
            jobs: Jobs::default(),
            headroom: Mutex::default(),
        }
    }
}
