//! The workstation's engine: joins the office, backs up, looks and restores. It leaves the terminal to its callers.

pub mod agent;
pub mod api;
pub mod at_service;
pub mod attach;
pub mod backup;
pub mod browse;
pub mod catalogue;
pub mod check;
mod clock;
pub mod compare;
mod content_reader;
pub mod diagnosis;
pub mod discovery;
pub mod disk;
pub mod drill;
mod entries;
mod error;
pub mod estimate;
pub mod exclusion;
pub mod export;
pub mod hooks;
pub mod join;
pub mod kept_key;
pub mod mount;
pub mod orders;
mod pins;
pub mod progress;
pub mod rebuild;
pub mod restore;
pub mod salvage;
mod same_content;
mod scan;
pub mod selection;
pub mod state_dir;
mod store_source;
mod throttle;
pub mod unlock_methods;
pub mod versions;
mod walk_tree;
mod which_point;

pub use content_reader::{ContentReader, Stretch};
pub use error::ClientError;
pub use scan::{Counts as ScanCounts, FolderId};

/// The name and version that this program gives itself.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");

pub use jetfrost_image::crypto::{OfficeKey, OfficePublicKey, Secret};
pub use jetfrost_image::format::{OfficeKeyFile, RecoveryKey};
pub use jetfrost_image::store::StoreError;

/// A number below `number`, which is not 0.
pub(crate) fn below(number: usize, random: &dyn jetfrost_image::crypto::Random) -> usize {
    let drawn = u64::from_le_bytes(jetfrost_image::crypto::random_array(random));
    usize::try_from(drawn % number as u64).expect("less than a number of that type")
}

/// The source of random values for keys that protect something.
#[must_use]
pub fn system_random() -> jetfrost_image::crypto::SystemRandom {
    jetfrost_image::crypto::SystemRandom::default()
}
