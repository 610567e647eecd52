//! The office's backup service.
//!
//! Within: `http` (handlers) → five use-case services, where transactions are opened (`operations` → `backups` → `retention` →
//! `storage` → `identity`) → `records` (Diesel) and `shelf` (image stores on their medium). Each knows only what is to its right.

mod announcer;
mod audit_heads;
mod backups;
mod certificate;
mod clock;
mod config;
mod downloads;
mod events;
mod hand_out;
mod http;
mod identity;
mod lifecycle;
mod mailer;
mod media;
mod operations;
mod records;
mod records_backup;
mod retention;
mod secrets;
mod services;
mod shared;
mod state_directory;
mod storage;

pub use certificate::{CertificateError, renew_identity, show_identity};
pub use clock::{Clock, SteppedClock, SystemClock};
pub use config::{Config, ConfigError, PartialConfig};
pub use lifecycle::{Running, StartError, first_code};
pub use records_backup::{RecoverError, Recovered, recover};

/// The OpenAPI document as JSON.
#[must_use]
pub fn openapi_json() -> String {
    format!("{:#}", http::document())
}
