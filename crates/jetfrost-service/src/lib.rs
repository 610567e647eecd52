//! The office's backup service.
//!
//! Within: `http` (handlers) → `desk` (use cases, transactions) → `records` (Diesel) and `shelf` (image stores on
//! their medium). Each knows only what is to its right.

mod announcer;
mod audit_heads;
mod certificate;
mod clock;
mod config;
mod desk;
mod events;
mod hand_out;
mod http;
mod own_records;
mod postman;
mod records;
mod running;
mod secrets;
mod shelf;

pub use certificate::{CertificateError, renew_identity, show_identity};
pub use clock::{Clock, SteppedClock, SystemClock};
pub use config::{Config, ConfigError, PartialConfig};
pub use own_records::{RecoverError, Recovered, recover};
pub use running::{Running, StartError, first_code};

/// The OpenAPI document as JSON.
#[must_use]
pub fn openapi_json() -> String {
    format!("{:#}", http::document())
}
