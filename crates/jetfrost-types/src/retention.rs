//! Retention: which points are kept, as a rule and as people write it.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How long points are kept: all of them at first, then the last one of each day, week, month and year. Zero means
/// that there is no such step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
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
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Retention {
    /// All of them.
    #[default]
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
