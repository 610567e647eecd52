//! The words of the domain, each once: what image store, rules, records, API and command line say alike. Nothing here decides, reads or
//! writes anything.

mod alert_kind;
mod changes;
mod delay;
mod id;
mod labels;
mod limit;
mod point;
mod retention;
mod role;
mod schedule;
mod stay_reason;
mod step;
mod template;

pub use alert_kind::AlertKind;
pub use changes::{Changes, PointMark, Suspicion};
pub use delay::{DelayReason, PowerSource};
pub use id::{
    AccountId, CodeId, DestinationId, GroupId, ImageStoreId, JobId, RestoreId, RestoreOrderId, RunId, ServiceId, SessionId,
    TextId, WorkstationId,
};
pub use labels::Label;
pub use limit::{Limit, given};
pub use point::PointKind;
pub use retention::{NotARule, Retention, Rule};
pub use role::Role;
pub use schedule::{
    DrillDays, Hours, NotARhythm, NotATimeOfDay, NotDrillDays, NotProofDays, ProofDays, Rate, RateLimit, Rhythm, Schedule,
    ScheduleOrigin, ScheduleSettings, SetBy, TimeOfDay, TooSlow,
};
pub use stay_reason::StayReason;
pub use step::Step;
pub use template::{Template, Templates, known_templates};
