//! Schedules: when a workstation is backed up, and with what consideration for its person and the network.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::template::{Templates, known_templates};

const MINUTES_OF_DAY: u16 = 24 * 60;

/// How often a workstation is backed up, in seconds: 15 minutes to 31 days.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "u32", into = "u32")]
#[schema(value_type = u32, minimum = 900, maximum = 2_678_400)]
pub struct Rhythm(u32);

impl Rhythm {
    /// Every hour.
    pub const HOURLY: Self = Self(3600);
    /// In seconds.
    pub const LEAST: u32 = 15 * 60;
    /// In seconds.
    pub const MOST: u32 = 31 * 86_400;

    /// None outside the bounds.
    #[must_use]
    pub fn new(seconds: u32) -> Option<Self> {
        (Self::LEAST..=Self::MOST).contains(&seconds).then_some(Self(seconds))
    }

    /// In seconds.
    #[must_use]
    pub fn seconds(self) -> u32 {
        self.0
    }
}

/// A number that is no rhythm.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a workstation is backed up every 15 minutes at most, and every 31 days at least: {0} seconds is neither")]
pub struct NotARhythm(u32);

impl TryFrom<u32> for Rhythm {
    type Error = NotARhythm;

    fn try_from(seconds: u32) -> Result<Self, NotARhythm> {
        Self::new(seconds).ok_or(NotARhythm(seconds))
    }
}

impl From<Rhythm> for u32 {
    fn from(rhythm: Rhythm) -> Self {
        rhythm.0
    }
}

/// Hours of the day by a machine's local time. They may pass midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Hours {
    from: u16,
    to: u16,
}

impl Hours {
    /// From one minute of the day up to another; none where one is no minute of a day, or both are the same.
    #[must_use]
    pub fn new(from: u16, to: u16) -> Option<Self> {
        (from < MINUTES_OF_DAY && to < MINUTES_OF_DAY && from != to).then_some(Self { from, to })
    }

    /// Whether a minute of the day lies within.
    #[must_use]
    pub fn contain(self, minute: u16) -> bool {
        if self.from < self.to { (self.from..self.to).contains(&minute) } else { minute >= self.from || minute < self.to }
    }

    /// Minutes from a minute of the day until they begin; 0 within them.
    #[must_use]
    pub fn begin_in(self, minute: u16) -> u16 {
        if self.contain(minute) { 0 } else { (self.from + MINUTES_OF_DAY - minute) % MINUTES_OF_DAY }
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let clock = |minute: u16| (minute / 60, minute % 60);
        let ((h, m), (to_h, to_m)) = (clock(self.from), clock(self.to));
        write!(f, "{h:02}:{m:02}-{to_h:02}:{to_m:02}")
    }
}

/// At which hours of the day something is so. As text, also in JSON: `always`, or for example `22:00-06:00`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "String", into = "String")]
#[schema(value_type = String, pattern = "^(always|[0-2][0-9]:[0-5][0-9]-[0-2][0-9]:[0-5][0-9])$", example = "22:00-06:00")]
pub struct TimeOfDay(Option<Hours>);

impl TimeOfDay {
    /// At all hours.
    pub const ALWAYS: Self = Self(None);

    /// At these hours.
    #[must_use]
    pub fn within(hours: Hours) -> Self {
        Self(Some(hours))
    }

    /// The hours; none for all of them.
    #[must_use]
    pub fn hours(self) -> Option<Hours> {
        self.0
    }

    /// Whether it is so at a minute of the day.
    #[must_use]
    pub fn contains(self, minute: u16) -> bool {
        self.0.is_none_or(|hours| hours.contain(minute))
    }
}

impl fmt::Display for TimeOfDay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            None => f.write_str("always"),
            Some(hours) => hours.fmt(f),
        }
    }
}

/// Text that says no hours of the day.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' says no hours of the day: write 'always', or for example 22:00-06:00")]
pub struct NotATimeOfDay(String);

impl FromStr for TimeOfDay {
    type Err = NotATimeOfDay;

    fn from_str(text: &str) -> Result<Self, NotATimeOfDay> {
        let text = text.trim();
        if text == "always" {
            return Ok(Self::ALWAYS);
        }
        let hours = text.split_once('-').and_then(|(from, to)| Hours::new(minute_of(from)?, minute_of(to)?));
        hours.map(Self::within).ok_or_else(|| NotATimeOfDay(text.to_owned()))
    }
}

fn minute_of(text: &str) -> Option<u16> {
    let two_digits = |text: &str, below: u16| -> Option<u16> {
        let digits = text.len() == 2 && text.bytes().all(|byte| byte.is_ascii_digit());
        text.parse().ok().filter(|number| digits && *number < below)
    };
    let (hour, minute) = text.split_once(':')?;
    Some(two_digits(hour, 24)? * 60 + two_digits(minute, 60)?)
}

impl TryFrom<String> for TimeOfDay {
    type Error = NotATimeOfDay;

    fn try_from(text: String) -> Result<Self, NotATimeOfDay> {
        text.parse()
    }
}

impl From<TimeOfDay> for String {
    fn from(time: TimeOfDay) -> Self {
        time.to_string()
    }
}

/// Bytes a second: 128 kB at least, so that a backup still gets anywhere and no connection is taken for dead.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "u64", into = "u64")]
#[schema(value_type = u64, minimum = 128_000)]
pub struct Rate(u64);

impl Rate {
    /// In bytes a second.
    pub const LEAST: u64 = 128_000;

    /// None below the least.
    #[must_use]
    pub fn new(bytes_per_second: u64) -> Option<Self> {
        (bytes_per_second >= Self::LEAST).then_some(Self(bytes_per_second))
    }

    /// In bytes a second.
    #[must_use]
    pub fn bytes_per_second(self) -> u64 {
        self.0
    }
}

/// A number that is too low a rate.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a backup sends 128 kB a second at least: {0} bytes a second is less")]
pub struct TooSlow(u64);

impl TryFrom<u64> for Rate {
    type Error = TooSlow;

    fn try_from(bytes: u64) -> Result<Self, TooSlow> {
        Self::new(bytes).ok_or(TooSlow(bytes))
    }
}

impl From<Rate> for u64 {
    fn from(rate: Rate) -> Self {
        rate.0
    }
}

/// How fast a workstation may send.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum RateLimit {
    /// As fast as the network allows.
    #[default]
    Unlimited,
    /// No faster than this.
    Limited {
        /// In bytes a second.
        bytes_per_second: Rate,
        /// At which hours; at others as fast as the network allows.
        #[serde(default)]
        hours: TimeOfDay,
    },
}

impl RateLimit {
    /// What holds at a minute of the day; none for no limit.
    #[must_use]
    pub fn at(self, minute: u16) -> Option<Rate> {
        match self {
            Self::Limited { bytes_per_second, hours } if hours.contains(minute) => Some(bytes_per_second),
            Self::Limited { .. } | Self::Unlimited => None,
        }
    }
}

macro_rules! days {
    ($(#[$doc:meta])* $name:ident, $least:tt, $most:tt, $(#[$usual_doc:meta])* $usual:ident = $days:literal, $wrong:ident, $says:literal) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
        #[serde(try_from = "u16", into = "u16")]
        #[schema(value_type = u16, minimum = $least, maximum = $most)]
        pub struct $name(u16);

        impl $name {
            $(#[$usual_doc])*
            pub const $usual: Self = Self($days);

            /// None outside the bounds.
            #[must_use]
            pub fn new(days: u16) -> Option<Self> {
                ($least..=$most).contains(&days).then_some(Self(days))
            }

            /// In days.
            #[must_use]
            pub fn days(self) -> u16 {
                self.0
            }
        }

        /// A number of days outside the bounds.
        #[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
        #[error($says)]
        pub struct $wrong(u16);

        impl TryFrom<u16> for $name {
            type Error = $wrong;

            fn try_from(days: u16) -> Result<Self, $wrong> {
                Self::new(days).ok_or($wrong(days))
            }
        }

        impl From<$name> for u16 {
            fn from(days: $name) -> Self {
                days.0
            }
        }
    };
}

days!(
    /// How often a restore is rehearsed, in days: 1 to 365.
    DrillDays, 1, 365,
    /// Every week.
    WEEKLY = 7, NotDrillDays, "a drill is repeated after 1 to 365 days, not after {0}"
);
days!(
    /// How often a person shows that a secret still opens the image store, in days: 7 to 730.
    ProofDays, 7, 730,
    /// Every 90 days.
    USUAL = 90, NotProofDays, "a proof is repeated after 7 to 730 days, not after {0}"
);

/// What holds for a workstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct Schedule {
    /// How often it is backed up, in seconds.
    pub rhythm_seconds: Rhythm,
    /// When backups may start.
    pub hours: TimeOfDay,
    /// Whether it is backed up on battery.
    pub on_battery: bool,
    /// Whether it is backed up over a connection that is paid by the byte.
    #[serde(default)]
    #[schema(required)]
    pub on_metered: bool,
    /// Whether backups yield to whatever else the machine does.
    pub low_priority: bool,
    /// How fast it may send.
    pub rate: RateLimit,
    /// How often a restore is rehearsed, in days.
    pub drill_days: DrillDays,
    /// How often a person shows that a secret opens the image store, in days.
    #[serde(default = "usual_proof")]
    #[schema(required)]
    pub proof_days: ProofDays,
    /// What backups leave out beside what the workstation itself excludes.
    #[serde(default, deserialize_with = "known_templates")]
    #[schema(required)]
    pub exclude: Templates,
}

impl Schedule {
    /// Every hour, at any time, not on battery, not over a metered connection, yielding, as fast as the network allows; a drill every week, a proof every 90 days; with
    /// all that is included.
    pub const USUAL: Self = Self {
        rhythm_seconds: Rhythm::HOURLY,
        hours: TimeOfDay::ALWAYS,
        on_battery: false,
        on_metered: false,
        low_priority: true,
        rate: RateLimit::Unlimited,
        drill_days: DrillDays::WEEKLY,
        proof_days: ProofDays::USUAL,
        exclude: Templates::NONE,
    };
}

/// What holds for an agent that kept its schedule before there were proofs.
fn usual_proof() -> ProofDays {
    ProofDays::USUAL
}

/// What somebody set of a schedule, for a workstation, a group or a destination. What is absent is left to the next: workstations
/// go by their account's groups, those by the destination, and that by what is usual.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScheduleSettings {
    /// How often it is backed up, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rhythm_seconds: Option<Rhythm>,
    /// When backups may start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<TimeOfDay>,
    /// Whether it is backed up on battery.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_battery: Option<bool>,
    /// Whether it is backed up over a connection that is paid by the byte.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_metered: Option<bool>,
    /// Whether backups yield to whatever else the machine does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low_priority: Option<bool>,
    /// How fast it may send.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<RateLimit>,
    /// How often a restore is rehearsed, in days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill_days: Option<DrillDays>,
    /// How often a person shows that a secret opens the image store, in days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof_days: Option<ProofDays>,
    /// What backups leave out beside what each workstation itself excludes; nothing where the list is empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exclude: Option<Templates>,
}

/// Who set something of a schedule.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum SetBy {
    /// Nobody: it is what is usual.
    #[default]
    Nobody,
    /// It is set for the destination.
    Destination {
        /// Its name.
        name: String,
    },
    /// It is set for a group of the account.
    Group {
        /// Its name.
        name: String,
    },
    /// It is set for the workstation itself.
    Workstation,
}

/// For each value of a schedule, who set it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct ScheduleOrigin {
    /// How often.
    pub rhythm_seconds: SetBy,
    /// At which hours.
    pub hours: SetBy,
    /// Whether on battery.
    pub on_battery: SetBy,
    /// Whether over a metered connection.
    #[serde(default)]
    #[schema(required)]
    pub on_metered: SetBy,
    /// Whether it yields.
    pub low_priority: SetBy,
    /// How fast.
    pub rate: SetBy,
    /// How often a restore is rehearsed.
    pub drill_days: SetBy,
    /// How often a secret is proved.
    #[serde(default)]
    #[schema(required)]
    pub proof_days: SetBy,
    /// What is left out.
    #[serde(default)]
    #[schema(required)]
    pub exclude: SetBy,
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn hours_may_pass_midnight_and_say_when_they_begin() {
        let night = Hours::new(22 * 60, 6 * 60).expect("hours");
        assert!(night.contain(23 * 60) && night.contain(0) && !night.contain(6 * 60) && !night.contain(12 * 60));
        assert_eq!((night.begin_in(12 * 60), night.begin_in(6 * 60), night.begin_in(3 * 60)), (600, 960, 0));
        assert!(Hours::new(5, 5).is_none() && Hours::new(1440, 5).is_none());
    }

    #[test]
    fn what_says_no_hours_is_refused() {
        for text in
            ["", "22-6", "24:00-06:00", "22:60-06:00", "22:00-22:00", "+2:00-06:00", "22:0-06:00", "22:00-06:001", "Always"]
        {
            assert!(text.parse::<TimeOfDay>().is_err(), "{text}");
        }
    }

    #[test]
    fn what_a_service_may_not_ask_of_a_workstation_is_refused_where_it_is_read() {
        for text in [
            r#"{"rhythm_seconds":899}"#,
            r#"{"rhythm_seconds":2678401}"#,
            r#"{"drill_days":0}"#,
            r#"{"hours":"25:00-26:00"}"#,
            r#"{"rate":{"kind":"limited","bytes_per_second":127999}}"#,
            r#"{"every":3600}"#,
        ] {
            assert!(serde_json::from_str::<ScheduleSettings>(text).is_err(), "{text}");
        }
        assert_eq!(serde_json::from_str::<ScheduleSettings>("{}").expect("nothing set"), ScheduleSettings::default());
    }

    #[test]
    fn a_rate_holds_at_its_hours() {
        let rate = Rate::new(1_000_000).expect("enough");
        let hours = "08:00-18:00".parse().expect("hours");
        let limit = RateLimit::Limited { bytes_per_second: rate, hours };
        assert_eq!([479, 480, 1079, 1080].map(|minute| limit.at(minute)), [None, Some(rate), Some(rate), None]);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_the_same(from in 0..1440_u16, to in 0..1440_u16, rate in Rate::LEAST..u64::MAX, battery: bool) {
            let hours = Hours::new(from, to).map(TimeOfDay::within);
            let limit = RateLimit::Limited { bytes_per_second: Rate(rate), hours: hours.unwrap_or_default() };
            let settings = ScheduleSettings { hours, on_battery: Some(battery), rate: Some(limit), ..ScheduleSettings::default() };
            let text = serde_json::to_string(&settings).expect("JSON");
            prop_assert_eq!(serde_json::from_str::<ScheduleSettings>(&text).expect("read"), settings);
        }

        #[test]
        fn no_text_makes_it_fail_otherwise(text in ".*") {
            let _ = text.parse::<TimeOfDay>();
        }
    }
}
