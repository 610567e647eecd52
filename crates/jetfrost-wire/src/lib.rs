//! The API's types, shared by service and client; the OpenAPI document is derived from them.
//!
//! Times are RFC 3339 in UTC, sizes are bytes, binary values are base64 in JSON.

pub mod access;
pub mod alerts;
pub mod binary;
pub mod call;
pub mod calls;
pub mod chunks;
pub mod destination;
pub mod diagnosis;
pub mod discovery;
pub mod downloads;
pub mod enrolment;
pub mod event;
pub mod job;
pub mod labels;
pub mod office;
pub mod order;
pub mod page;
pub mod people;
pub mod point;
pub mod problem;
pub mod restore;
pub mod retention;
pub mod roster;
pub mod rules;
pub mod run;
pub mod schedule;
pub mod service;
pub mod setup;
pub mod size;
pub mod sizing;
pub mod version;
pub mod workstation;

pub use binary::Binary;
pub use call::Call;
pub use jetfrost_types::{
    AccountId, CodeId, DestinationId, GroupId, ImageStoreId, JobId, RestoreId, RestoreOrderId, RunId, ServiceId, SessionId,
    WorkstationId,
};
pub use page::{Found, Page, PageQuery, Sorted};
pub use problem::{Problem, ProblemKind, WhoseMove};
pub use version::{HasVersion, Version};

/// The path under which all of the API lies.
pub const ROOT: &str = "/api/v1";

/// The protocol that a client offers beside HTTP (ALPN, RFC 7301) if it knows the service by its identity: it is shown a certificate
/// that the identity signed, whatever browsers are shown. It is never the one that is chosen.
pub const IDENTITY_PROTOCOL: &[u8] = b"jetfrost-identity/1";
