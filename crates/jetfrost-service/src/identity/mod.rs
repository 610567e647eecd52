//! Who is who: accounts, groups, what is open to them, signing in, sessions, and the audit log of what they did.

pub(crate) mod accounts;
mod audit;
pub(crate) mod grants;
mod groups;
mod second_factor;
pub(crate) mod sessions;
mod sign_in;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use jetfrost_image::crypto::Random;

use crate::clock::Clock;
use crate::events::Events;
use crate::records::Records;
use crate::shared::{Basis, Installation, Trail};
use jetfrost_types::WorkstationId;
use sign_in::Attempts;

pub(crate) use audit::export_header;
pub(crate) use sign_in::{installation, new_first_code};

/// The use cases about people.
pub(crate) struct Identity {
    records: Records,
    clock: Arc<dyn Clock>,
    random: Arc<dyn Random>,
    events: Events,
    trail: Arc<Trail>,
    installation: Installation,
    attempts: Mutex<Attempts>,
    /// What each workstation was last refused for, so that a refusal is on record once.
    refusals_told: Mutex<BTreeMap<WorkstationId, String>>,
}

impl Identity {
    pub(crate) fn new(basis: &Basis) -> Self {
        Self {
            records: basis.records.clone(),
            clock: Arc::clone(&basis.clock),
            random: Arc::clone(&basis.random),
            events: basis.events.clone(),
            trail: Arc::clone(&basis.trail),
            installation: basis.installation.clone(),
            attempts: Mutex::default(),
            refusals_told: Mutex::default(),
        }
    }
}
