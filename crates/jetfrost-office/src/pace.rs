//! How often somebody may begin something, however quickly it ends.

use std::collections::BTreeMap;

const HOUR_MS: i64 = 60 * 60 * 1000;

/// Counts beginnings within an hour, by who begins.
#[derive(Debug)]
pub struct Pace {
    an_hour: u32,
    begun: BTreeMap<String, Hour>,
}

#[derive(Debug, Clone, Copy)]
struct Hour {
    since_ms: i64,
    count: u32,
}

impl Pace {
    /// So many an hour for each.
    #[must_use]
    pub fn new(an_hour: u32) -> Self {
        Self { an_hour, begun: BTreeMap::new() }
    }

    /// Counts a beginning.
    ///
    /// # Errors
    /// Milliseconds to wait, when there were too many within this hour; then it is not counted.
    pub fn begin(&mut self, who: &str, now_ms: i64) -> Result<(), i64> {
        self.begun.retain(|_, hour| (0..HOUR_MS).contains(&(now_ms - hour.since_ms)));
        let hour = self.begun.entry(who.to_owned()).or_insert(Hour { since_ms: now_ms, count: 0 });
        if hour.count >= self.an_hour {
            return Err(hour.since_ms + HOUR_MS - now_ms);
        }
        hour.count += 1;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_who_begins_too_often_waits_and_the_others_do_not() {
        let mut pace = Pace::new(3);
        for at in 0..3 {
            pace.begin("knot", at).expect("within the pace");
        }
        assert_eq!(pace.begin("knot", 1000), Err(HOUR_MS - 1000));
        pace.begin("dunlin", 1000).expect("another's first");
        pace.begin("knot", HOUR_MS).expect("an hour later");
    }
}
