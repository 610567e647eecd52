//! How long to wait after failed sign-ins.

/// Failures that cost nothing: everybody mistypes.
const FREE: u32 = 4;
/// The longest wait.
const LONGEST_MS: i64 = 15 * 60 * 1000;
/// After this long without a failure all is forgotten.
const FORGET_MS: i64 = 60 * 60 * 1000;

/// Failed attempts of one account name or one address.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Failures {
    count: u32,
    last_ms: i64,
}

impl Failures {
    /// Adds a failure at `now_ms`.
    #[must_use]
    pub fn and_one_more(self, now_ms: i64) -> Self {
        let count = if self.is_forgotten(now_ms) { 0 } else { self.count };
        Self { count: count.saturating_add(1), last_ms: now_ms }
    }

    /// Takes one back that turned out to be none.
    #[must_use]
    pub fn and_one_less(self) -> Self {
        Self { count: self.count.saturating_sub(1), ..self }
    }

    /// Milliseconds until the next attempt is allowed; 0 when it is allowed now.
    #[must_use]
    pub fn wait_ms(self, now_ms: i64) -> i64 {
        if self.count <= FREE || self.is_forgotten(now_ms) {
            return 0;
        }
        let doublings = (self.count - FREE - 1).min(20);
        let wait = (1000_i64 << doublings).min(LONGEST_MS);
        (self.last_ms + wait - now_ms).max(0)
    }

    /// Whether the failures are too long ago to count.
    #[must_use]
    pub fn is_forgotten(self, now_ms: i64) -> bool {
        now_ms.saturating_sub(self.last_ms) > FORGET_MS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(failures: u32) -> Failures {
        (0..failures).fold(Failures::default(), |f, _| f.and_one_more(1_000_000_000))
    }

    #[test]
    fn a_few_failures_cost_nothing_then_the_wait_doubles_up_to_a_bound() {
        let waits: Vec<i64> = [0, 4, 5, 6, 8, 40].iter().map(|n| after(*n).wait_ms(1_000_000_000)).collect();
        assert_eq!(waits, [0, 0, 1000, 2000, 8000, LONGEST_MS]);
    }

    #[test]
    fn waiting_helps_and_an_hour_forgets() {
        assert_eq!(after(6).wait_ms(1_000_001_500), 500);
        assert_eq!(after(6).wait_ms(1_000_002_000), 0);
        let later = 1_000_000_000 + FORGET_MS + 1;
        assert_eq!(after(40).and_one_more(later).wait_ms(later), 0);
    }
}
