//! The office's rules as pure functions over plain values. No input or output; time comes in as a value.

pub mod access;
pub mod alerts;
pub mod capacity;
pub mod freshness;
pub mod grants;
pub mod login_backoff;
pub mod names;
pub mod pace;
pub mod protected;
pub mod protection;
pub mod queue;
pub mod refusals;
pub mod retention;
pub mod roster;
pub mod schedule;
pub mod setup;
pub mod sizing;
pub mod suspicion;
