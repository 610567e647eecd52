//! What is kept how long, what happens at a limit, and what waits to go.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;
use crate::workstation::Point;

/// How long points are kept: all of them at first, then the last one of each day, week, month and year. Zero means
/// that there is no such step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Rule {
    /// All points of the last so many hours.
    #[serde(default)]
    pub hours: u32,
    /// The last point of each day, for so many days.
    #[serde(default)]
    pub days: u32,
    /// The last point of each week, for so many weeks.
    #[serde(default)]
    pub weeks: u32,
    /// The last point of each month, for so many months.
    #[serde(default)]
    pub months: u32,
    /// The last point of each year, for so many years.
    #[serde(default)]
    pub years: u32,
    /// However old, so many points stay.
    #[serde(default)]
    pub at_least: u32,
}

/// Which points are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Retention {
    /// All of them.
    Everything,
    /// Those that a rule says.
    Thinned(Rule),
}

impl Retention {
    /// The rule, unless everything is kept.
    #[must_use]
    pub fn rule(&self) -> Option<&Rule> {
        match self {
            Self::Everything => None,
            Self::Thinned(rule) => Some(rule),
        }
    }
}

/// Text that does not say what to keep.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "'{0}' does not say what to keep: write 'everything', or for example '72 hours, 30 days, 12 weeks, 24 months, 7 years, at least 3'"
)]
pub struct NotARule(String);

impl Rule {
    fn steps(&self) -> [(u32, &'static str); 5] {
        [(self.hours, "hour"), (self.days, "day"), (self.weeks, "week"), (self.months, "month"), (self.years, "year")]
    }

    fn step(&mut self, unit: &str) -> Option<&mut u32> {
        match unit.strip_suffix('s').unwrap_or(unit) {
            "hour" => Some(&mut self.hours),
            "day" => Some(&mut self.days),
            "week" => Some(&mut self.weeks),
            "month" => Some(&mut self.months),
            "year" => Some(&mut self.years),
            _ => None,
        }
    }
}

impl fmt::Display for Retention {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self::Thinned(rule) = self else { return f.write_str("everything") };
        for (n, unit) in rule.steps().into_iter().filter(|(n, _)| *n > 0) {
            write!(f, "{n} {unit}{}, ", if n == 1 { "" } else { "s" })?;
        }
        write!(f, "at least {}", rule.at_least)
    }
}

impl FromStr for Retention {
    type Err = NotARule;

    fn from_str(text: &str) -> Result<Self, NotARule> {
        let wrong = || NotARule(text.to_owned());
        if text.trim().eq_ignore_ascii_case("everything") {
            return Ok(Self::Everything);
        }
        let mut rule = Rule::default();
        let mut said: Vec<String> = Vec::new();
        for part in text.split(',') {
            let part = part.trim().to_lowercase();
            let (number, step) = match part.strip_prefix("at least") {
                Some(number) => (number, Some((&mut rule.at_least, "at least".to_owned()))),
                None => {
                    let (number, unit) = part.split_at(part.find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?);
                    (number, rule.step(unit.trim()).map(|step| (step, unit.trim().trim_end_matches('s').to_owned())))
                }
            };
            let (step, name) = step.ok_or_else(wrong)?;
            if said.contains(&name) {
                return Err(wrong());
            }
            *step = number.trim().parse().map_err(|_| wrong())?;
            said.push(name);
        }
        Ok(Self::Thinned(rule))
    }
}

/// What happens when a backup meets a limit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AtLimit {
    /// The backup stops and says so.
    #[default]
    Stop,
    /// The workstation's oldest points go, as far as the rule's least number and holds allow.
    ExpireOldest,
}

labels!(AtLimit: Stop = "stop", ExpireOldest = "expire_oldest");

/// Once a month.
#[must_use]
pub fn usual_scrub_days() -> u32 {
    30
}

/// What an administrator sets for one image store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreSettings {
    /// Bytes it may occupy; absent for no limit of its own.
    #[serde(default)]
    pub limit: Option<u64>,
    /// Which points are kept; absent for what the destination says.
    #[serde(default)]
    pub retention: Option<Retention>,
}

/// Keeps a point or a store from being thinned or removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    /// Why.
    pub reason: String,
    /// Who put it on.
    pub by: String,
}

/// Removes at once what an administrator could bring back otherwise: who asks shows password and second factor again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RemoveNow {
    /// The password of the account that asks.
    pub password: String,
    /// A code of its second factor.
    pub code: String,
}

/// Puts a hold on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewHold {
    /// Why.
    pub reason: String,
}

/// Something that a person removed and that can still be brought back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PendingRemoval {
    /// Who removed it.
    pub by: String,
    /// When it goes for good.
    pub ends: Timestamp,
}

/// Why a point stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StayReason {
    /// It is younger than the hours for which all are kept, or everything is kept.
    Recent,
    /// Its protected time is not over: nothing makes it go.
    Protected,
    /// It is the last one of its day.
    Day,
    /// It is the last one of its week.
    Week,
    /// It is the last one of its month.
    Month,
    /// It is the last one of its year.
    Year,
    /// So few points would be left without it.
    AtLeast,
    /// It was made later than now.
    FromTheFuture,
    /// It is the latest, or the latest one without exceptions.
    Latest,
    /// A hold is on it.
    Held,
    /// A person removed it, and its waiting time is not over.
    PendingRemoval,
}

/// What becomes of a point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointFate {
    /// The point.
    pub point: Point,
    /// Why it stays; absent when it goes with the next thinning.
    pub stays: Option<StayReason>,
    /// Until when it stays for certain, if no other point is made; absent for no end, or when it goes.
    pub until: Option<Timestamp>,
    /// Whether it may go after that, or now if `until` is absent, to make room at a limit.
    pub goes_for_room: bool,
    /// Where it may go for room: until when it stays while there is room; absent for no end.
    pub while_room_until: Option<Timestamp>,
}

/// What the next thinning of an image store would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThinningPreview {
    /// By which rule.
    pub retention: Retention,
    /// Whether terms were changed, and points that were there before are kept longer, as the earlier terms promised.
    pub keeps_earlier_promises: bool,
    /// All points, latest first.
    pub points: Vec<PointFate>,
    /// Chunks that nothing would need any more.
    pub freed_chunks: u64,
    /// Bytes that they take.
    pub freed_bytes: u64,
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_to_keep_is_written_as_people_say_it() {
        let rule = Rule { hours: 72, days: 30, weeks: 1, at_least: 3, ..Rule::default() };
        assert_eq!(Retention::Thinned(rule).to_string(), "72 hours, 30 days, 1 week, at least 3");
        assert_eq!(" 30 Days,72hours, 1 week , at least 3".parse(), Ok(Retention::Thinned(rule)));
        assert_eq!("Everything".parse(), Ok(Retention::Everything));
    }

    #[test]
    fn what_cannot_be_meant_is_refused() {
        for text in ["", "30", "days", "30 dogs", "30 days, 20 days", "-1 days", "at least", "30 days,", "99999999999 days"] {
            assert!(text.parse::<Retention>().is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn what_is_shown_reads_back(hours: u32, days: u32, weeks: u32, months: u32, years: u32, at_least: u32) {
            let retention = Retention::Thinned(Rule { hours, days, weeks, months, years, at_least });
            prop_assert_eq!(retention.to_string().parse(), Ok(retention));
        }
    }
}
