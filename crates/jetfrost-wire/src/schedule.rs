//! Schedules as the office sets them and as they hold for a workstation.

use std::fmt::Write;

pub use jetfrost_types::{
    DrillDays, NotATimeOfDay, ProofDays, Rate, RateLimit, Rhythm, Schedule, ScheduleOrigin, ScheduleSettings, SetBy, Template,
    Templates, TimeOfDay,
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::size::show;
use crate::version::{HasVersion, Version};

/// The schedule that holds for a workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppliedSchedule {
    /// What holds.
    pub values: Schedule,
    /// Who set each of it.
    pub set_by: ScheduleOrigin,
}

impl Default for AppliedSchedule {
    fn default() -> Self {
        Self { values: Schedule::USUAL, set_by: ScheduleOrigin::default() }
    }
}

/// What is set of a schedule for one workstation, group or destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OwnSchedule {
    /// What is set. What is absent is left to the next: to the account's groups, then the destination, then what is usual.
    pub settings: ScheduleSettings,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for OwnSchedule {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// A backup that an administrator asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskedBackup {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub by: String,
}

/// A pause that an administrator set for a workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OfficePause {
    /// When it ends.
    pub until: Timestamp,
    /// Who set it.
    pub by: String,
}

/// Pauses a workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewPause {
    /// When the pause ends: 31 days from now at most.
    pub until: Timestamp,
}

/// Settings in a line, for people: `every 4 hours, between 22:00-06:00, on battery`; `nothing` where nothing is set.
#[must_use]
pub fn said(settings: &ScheduleSettings) -> String {
    let ScheduleSettings { rhythm_seconds, hours, on_battery, on_metered, low_priority, rate, drill_days, proof_days, exclude } =
        settings;
    let parts = [
        rhythm_seconds.map(said_of_rhythm),
        hours.map(said_of_hours),
        on_battery.map(|yes| said_of_battery(yes).to_owned()),
        on_metered.map(|yes| said_of_metered(yes).to_owned()),
        low_priority.map(|yes| said_of_priority(yes).to_owned()),
        rate.map(said_of_rate),
        drill_days.map(said_of_drills),
        proof_days.map(said_of_proofs),
        exclude.map(said_of_exclusions),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    if parts.is_empty() { "nothing".into() } else { parts.join(", ") }
}

/// `every hour`, `every 90 minutes`, `every 2 days`.
#[must_use]
pub fn said_of_rhythm(rhythm: Rhythm) -> String {
    let seconds = rhythm.seconds();
    let (number, unit) = match seconds {
        _ if seconds.is_multiple_of(86_400) => (seconds / 86_400, "day"),
        _ if seconds.is_multiple_of(3_600) => (seconds / 3_600, "hour"),
        _ if seconds.is_multiple_of(60) => (seconds / 60, "minute"),
        _ => (seconds, "second"),
    };
    if number == 1 { format!("every {unit}") } else { format!("every {number} {unit}s") }
}

/// `at any time`, `22:00-06:00`.
#[must_use]
pub fn said_of_hours(hours: TimeOfDay) -> String {
    hours.hours().map_or_else(|| "at any time".into(), |hours| hours.to_string())
}

/// `also on battery`, `not on battery`.
#[must_use]
pub fn said_of_battery(on_battery: bool) -> &'static str {
    if on_battery { "also on battery" } else { "not on battery" }
}

/// `also over a metered connection`, `not over a metered connection`.
#[must_use]
pub fn said_of_metered(on_metered: bool) -> &'static str {
    if on_metered { "also over a metered connection" } else { "not over a metered connection" }
}

/// `low priority`, `normal priority`.
#[must_use]
pub fn said_of_priority(low: bool) -> &'static str {
    if low { "low priority" } else { "normal priority" }
}

/// `no rate limit`, `at most 5.00 MB/s 08:00-18:00`.
#[must_use]
pub fn said_of_rate(rate: RateLimit) -> String {
    match rate {
        RateLimit::Unlimited => "no rate limit".into(),
        RateLimit::Limited { bytes_per_second, hours } => {
            let mut text = format!("at most {}/s", show(bytes_per_second.bytes_per_second()));
            if let Some(hours) = hours.hours() {
                write!(text, " {hours}").expect("a string takes everything");
            }
            text
        }
    }
}

/// `a drill every week`, `a drill every 30 days`.
#[must_use]
pub fn said_of_drills(every: DrillDays) -> String {
    match every.days() {
        1 => "a drill every day".into(),
        7 => "a drill every week".into(),
        days => format!("a drill every {days} days"),
    }
}

/// `a proof of the passphrase or recovery key every 90 days`.
#[must_use]
pub fn said_of_proofs(every: ProofDays) -> String {
    format!("a proof of the passphrase or recovery key every {} days", every.days())
}

/// `leaves out caches, trash`, `leaves out nothing more`.
#[must_use]
pub fn said_of_exclusions(templates: Templates) -> String {
    let words: Vec<&str> = templates.iter().map(Template::word).collect();
    if words.is_empty() { "leaves out nothing more".into() } else { format!("leaves out {}", words.join(", ")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_read_as_a_line() {
        assert_eq!(said(&ScheduleSettings::default()), "nothing");
        let settings = ScheduleSettings {
            rhythm_seconds: Rhythm::new(4 * 3600),
            hours: Some("22:00-06:00".parse().expect("hours")),
            on_battery: Some(true),
            on_metered: Some(false),
            low_priority: Some(false),
            rate: Some(RateLimit::Limited {
                bytes_per_second: Rate::new(5_000_000).expect("enough"),
                hours: "08:00-18:00".parse().expect("hours"),
            }),
            drill_days: DrillDays::new(30),
            proof_days: ProofDays::new(180),
            exclude: Some([Template::Trash, Template::Caches].into_iter().collect()),
        };
        let line = "every 4 hours, 22:00-06:00, also on battery, not over a metered connection, normal priority, at most 5.00 MB/s 08:00-18:00, \
                    a drill every 30 days, a proof of the passphrase or recovery key every 180 days, leaves out caches, trash";
        assert_eq!(said(&settings), line);
        let said = [900, 3_600, 5_400, 86_400].map(|seconds| said_of_rhythm(Rhythm::new(seconds).expect("within")));
        assert_eq!(said, ["every 15 minutes", "every hour", "every 90 minutes", "every day"]);
    }
}
