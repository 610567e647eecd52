//! Where backups are: destinations, image stores on their medium, what is in use, and copies of the service's own records.

pub(crate) mod adoption;
pub(crate) mod audit_heads;
pub(crate) mod capacity;
pub(crate) mod destinations;
mod erasure;
pub(crate) mod key_slots;
pub(crate) mod points;
mod records_backup;
pub(crate) mod removal;
pub(crate) mod stores;
pub(crate) mod terms;
pub(crate) mod workstations;

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use jetfrost_image::crypto::Random;

use crate::audit_heads::HeadSigner;
use crate::clock::Clock;
use crate::events::Events;
use crate::media::Media;
use crate::records::Records;
use crate::shared::{Basis, Installation, Trail};

/// The use cases about places.
pub(crate) struct Storage {
    records: Records,
    media: Arc<Media>,
    clock: Arc<dyn Clock>,
    random: Arc<dyn Random>,
    events: Events,
    trail: Arc<Trail>,
    installation: Installation,
    state_directory: PathBuf,
    heads: HeadSigner,
    /// What contradicts the audit log, as it was last looked.
    audit_altered: Mutex<Option<String>>,
}

impl Storage {
    pub(crate) fn new(basis: &Basis, media: Arc<Media>, state_directory: PathBuf, heads: HeadSigner) -> Self {
        Self {
            records: basis.records.clone(),
            clock: Arc::clone(&basis.clock),
            random: Arc::clone(&basis.random),
            events: basis.events.clone(),
            trail: Arc::clone(&basis.trail),
            installation: basis.installation.clone(),
            media,
            state_directory,
            heads,
            audit_altered: Mutex::default(),
        }
    }
}
