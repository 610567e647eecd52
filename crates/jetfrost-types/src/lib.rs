//! The words of the domain, each once: what image store, rules, records, API and command line say alike. Nothing here decides, reads or
//! writes anything.

mod labels;
mod limit;
mod point;
mod retention;
mod role;

pub use labels::Label;
pub use limit::{Limit, given};
pub use point::PointKind;
pub use retention::{NotARule, Retention, Rule};
pub use role::Role;
