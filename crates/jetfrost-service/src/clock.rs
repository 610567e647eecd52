//! The one clock of the service.

use std::sync::atomic::{AtomicI64, Ordering};

use jiff::Timestamp;

/// Milliseconds of a day.
pub(crate) const DAY_MS: i64 = 24 * 3600 * 1000;

/// Tells the time.
pub trait Clock: Send + Sync {
    /// Milliseconds since 1970.
    fn now_ms(&self) -> i64;
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
pub(crate) fn timestamp(ms: i64) -> Timestamp {
    Timestamp::from_millisecond(ms).unwrap_or(if ms < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

/// A moment in a sentence, to the minute.
pub(crate) fn said(ms: i64) -> String {
    timestamp(ms).strftime("%Y-%m-%d %H:%M UTC").to_string()
}
