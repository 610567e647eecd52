//! The protected time, and what was promised before terms were shortened. Both stand above every rule and limit.
//!
//! For a protected time after its commit, by the service's clock, nothing makes a point go: no rule, no limit, no
//! workstation and no administrator. And shorter terms count for the points that are made under them: what was there
//! before is kept by the earlier terms until those have run out, so that a session in the wrong hands cannot empty a
//! history by a stroke of the pen.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;

use crate::retention::{self, Fate, PointFacts, Rule, StayReason};

const DAY_MS: i64 = 86_400_000;
/// The protected time unless told otherwise.
pub const USUAL_DAYS: u32 = 30;
/// The least protected time where old points go to make room: what a stolen credential floods, somebody must have had a week
/// to notice.
pub const LEAST_DAYS_MAKING_ROOM: u32 = 7;

/// What the points of an image store are kept by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Terms {
    /// The rule; none when everything is kept.
    pub rule: Option<Rule>,
    /// The protected time, in days.
    pub protected_days: u32,
    /// Whether the oldest points go to make room at a limit.
    pub makes_room: bool,
}

impl Terms {
    fn protected_ms(&self) -> i64 {
        i64::from(self.protected_days) * DAY_MS
    }
}

/// Terms that were in force until a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Earlier {
    /// The terms.
    pub terms: Terms,
    /// When others came in their place, in Unix milliseconds.
    pub ended_ms: i64,
}

impl Earlier {
    fn covers(&self, point: &PointFacts) -> bool {
        point.committed_ms <= self.ended_ms
    }

    /// Terms by which nothing ever went have no end to run out: they go on for a protected time after they were changed.
    fn runs_out_ms(&self) -> i64 {
        self.ended_ms.saturating_add(self.terms.protected_ms().max(i64::from(USUAL_DAYS) * DAY_MS))
    }
}

/// What the points of an image store are kept by now, and what was promised for those that are there already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Promise {
    /// Now.
    pub now: Terms,
    /// Before.
    pub earlier: Vec<Earlier>,
}

impl Promise {
    /// Until when nothing makes a point go, in Unix milliseconds.
    #[must_use]
    pub fn protected_until_ms(&self, point: &PointFacts) -> i64 {
        let of_earlier = self.earlier.iter().filter(|earlier| earlier.covers(point)).map(|earlier| earlier.terms.protected_ms());
        let longest = of_earlier.fold(self.now.protected_ms(), i64::max);
        point.committed_ms.saturating_add(longest)
    }

    /// What becomes of each point, in the order given.
    #[must_use]
    pub fn fates(&self, points: &[PointFacts], zone: &TimeZone, now_ms: i64) -> Vec<Fate> {
        let mut fates = retention::fates(points, self.now.rule.as_ref(), zone, now_ms);
        for (point, fate) in points.iter().zip(&mut fates) {
            *fate = longer(*fate, until(StayReason::Protected, self.protected_until_ms(point), now_ms));
        }
        for earlier in &self.earlier {
            let by_earlier = retention::fates(points, earlier.terms.rule.as_ref(), zone, now_ms);
            for ((point, fate), promised) in points.iter().zip(&mut fates).zip(by_earlier) {
                if earlier.covers(point) {
                    *fate = longer(*fate, self.as_promised(earlier, promised, now_ms));
                }
            }
        }
        fates
    }

    fn as_promised(&self, earlier: &Earlier, promised: Fate, now_ms: i64) -> Fate {
        match promised {
            Fate::Stays { reason: StayReason::Recent, until_ms: None } => {
                until(StayReason::Recent, earlier.runs_out_ms(), now_ms)
            }
            other => other,
        }
    }

    /// From when on, in Unix milliseconds, points may go to make room, by number: all that neither a hold nor a least number
    /// keeps. None where no room is made.
    #[must_use]
    pub fn go_for_room_from(&self, points: &[PointFacts], now_ms: i64) -> BTreeMap<u64, i64> {
        if !self.now.makes_room {
            return BTreeMap::new();
        }
        let expendable = retention::expendable(points, self.now.rule.as_ref(), now_ms);
        let fact = |sequence: u64| points.iter().find(|point| point.sequence == sequence);
        expendable.into_iter().filter_map(|sequence| Some((sequence, self.may_go_from_ms(fact(sequence)?)))).collect()
    }

    fn may_go_from_ms(&self, point: &PointFacts) -> i64 {
        // While no room was made, a list promised the point until its time by the rule was over.
        let promised = self.earlier.iter().filter(|earlier| earlier.covers(point) && !earlier.terms.makes_room);
        promised.map(Earlier::runs_out_ms).fold(self.protected_until_ms(point), i64::max)
    }

    /// Points that may go now to make room, oldest first.
    #[must_use]
    pub fn expendable(&self, points: &[PointFacts], now_ms: i64) -> Vec<u64> {
        let from = self.go_for_room_from(points, now_ms);
        let oldest_first = retention::expendable(points, self.now.rule.as_ref(), now_ms);
        oldest_first.into_iter().filter(|sequence| from.get(sequence).is_some_and(|from| *from <= now_ms)).collect()
    }

    /// Whether earlier terms still keep a point longer than the present ones do.
    #[must_use]
    pub fn earlier_still_count(&self, points: &[PointFacts], zone: &TimeZone, now_ms: i64) -> bool {
        let without = Self { now: self.now, earlier: Vec::new() };
        self.fates(points, zone, now_ms) != without.fates(points, zone, now_ms)
            || self.go_for_room_from(points, now_ms) != without.go_for_room_from(points, now_ms)
    }
}

fn until(reason: StayReason, until_ms: i64, now_ms: i64) -> Fate {
    if until_ms > now_ms { Fate::Stays { reason, until_ms: Some(until_ms) } } else { Fate::Goes }
}

/// The fate that keeps a point longer; of two alike, the first.
fn longer(one: Fate, other: Fate) -> Fate {
    let term = |fate: &Fate| match fate {
        Fate::Goes => i64::MIN,
        Fate::Stays { until_ms, .. } => until_ms.unwrap_or(i64::MAX),
    };
    if term(&other) > term(&one) { other } else { one }
}

#[cfg(test)]
mod tests;
