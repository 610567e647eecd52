//! The one clock of the service.

use std::ops::{Add, Sub};
use std::sync::atomic::{AtomicI64, Ordering};

use diesel::deserialize::FromSqlRow;
use diesel::expression::AsExpression;
use diesel::sql_types::BigInt;
use jiff::Timestamp;

/// Milliseconds of a day.
pub(crate) const DAY_MS: i64 = 24 * 3600 * 1000;

/// A moment, to the millisecond, within the years that RFC 3339 can write. What lies beyond is the first or the last of them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, AsExpression, FromSqlRow)]
#[diesel(sql_type = BigInt)]
pub struct Moment(i64);

impl Moment {
    /// The beginning of 1970.
    pub(crate) const FIRST: Self = Self(0);
    /// The last that a `Timestamp` is made of in milliseconds.
    pub(crate) const LAST: Self = Self(253_402_207_200_000);

    /// From milliseconds since 1970.
    pub(crate) fn from_ms(ms: i64) -> Self {
        Self(ms.clamp(Self::FIRST.0, Self::LAST.0))
    }

    /// Milliseconds since 1970.
    pub(crate) fn ms(self) -> i64 {
        self.0
    }
}

impl From<Timestamp> for Moment {
    fn from(timestamp: Timestamp) -> Self {
        Self::from_ms(timestamp.as_millisecond())
    }
}

impl Add<i64> for Moment {
    type Output = Self;

    /// So many milliseconds later.
    fn add(self, ms: i64) -> Self {
        Self::from_ms(self.0.saturating_add(ms))
    }
}

impl Sub<i64> for Moment {
    type Output = Self;

    /// So many milliseconds earlier.
    fn sub(self, ms: i64) -> Self {
        Self::from_ms(self.0.saturating_sub(ms))
    }
}

impl Sub for Moment {
    type Output = i64;

    /// Milliseconds from the other moment to this one.
    fn sub(self, earlier: Self) -> i64 {
        self.0 - earlier.0
    }
}

/// Tells the time.
pub trait Clock: Send + Sync {
    /// Milliseconds since 1970.
    fn now_ms(&self) -> i64;

    /// The moment.
    fn now(&self) -> Moment {
        Moment::from_ms(self.now_ms())
    }
}

/// The machine's clock.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now_ms(&self) -> i64 {
        Timestamp::now().as_millisecond()
    }
}

/// A clock that stands still until it is set: for tests and the demo.
#[derive(Debug)]
pub struct SteppedClock(AtomicI64);

impl SteppedClock {
    /// A clock that shows `now`.
    #[must_use]
    pub fn new(now: Timestamp) -> Self {
        Self(AtomicI64::new(now.as_millisecond()))
    }

    /// Sets the clock.
    pub fn set(&self, now: Timestamp) {
        self.0.store(now.as_millisecond(), Ordering::SeqCst);
    }
}

impl Clock for SteppedClock {
    fn now_ms(&self) -> i64 {
        self.0.load(Ordering::SeqCst)
    }
}

/// A moment for the API from one of the records.
pub(crate) fn timestamp(moment: Moment) -> Timestamp {
    Timestamp::from_millisecond(moment.0).expect("every moment lies within the years of a timestamp")
}

/// A moment in a sentence, to the minute.
pub(crate) fn said(moment: Moment) -> String {
    timestamp(moment).strftime("%Y-%m-%d %H:%M UTC").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_moment_can_be_shown_and_arithmetic_stays_within_them() {
        assert_eq!(Moment::from_ms(i64::MIN), Moment::FIRST);
        assert_eq!(Moment::from_ms(i64::MAX), Moment::LAST);
        assert_eq!(Moment::LAST + i64::MAX, Moment::LAST);
        assert_eq!(Moment::FIRST - 1, Moment::FIRST);
        assert_eq!(Moment::FIRST + DAY_MS - Moment::FIRST, DAY_MS);
        assert_eq!((said(Moment::FIRST), timestamp(Moment::LAST)), ("1970-01-01 00:00 UTC".into(), timestamp(Moment::LAST)));
    }
}
