//! Managing the service: accounts, destinations, workstations, points, jobs.

pub(crate) mod access;
pub(crate) mod account;
pub(crate) mod alert;
pub(crate) mod audit;
pub(crate) mod destination;
pub(crate) mod discovery;
pub(crate) mod enrolment;
pub(crate) mod group;
pub(crate) mod hand_out;
pub(crate) mod job;
pub(crate) mod mail;
pub(crate) mod maintenance;
pub(crate) mod me;
pub(crate) mod point;
pub(crate) mod removal;
pub(crate) mod report;
pub(crate) mod roster;
pub(crate) mod schedule;
pub(crate) mod scrub;
pub(crate) mod session;
pub(crate) mod settings;
pub(crate) mod setup;
pub(crate) mod store;
pub(crate) mod thinning;
pub(crate) mod workstation;
