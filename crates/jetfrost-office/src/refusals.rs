//! Refusals that repeat: the first ones are put on record one by one, the rest as a number, so that nobody fills the audit log.

use std::collections::{BTreeMap, BTreeSet};

/// A refusal that repeats is counted for so long before its number is put on record.
const WINDOW_MS: i64 = 10 * 60 * 1000;
/// Different refusals of one origin that are put on record one by one within that time.
const EACH: usize = 30;
/// Origins that are counted separately; all others share one count.
const MOST_ORIGINS: usize = 1000;
const ELSEWHERE: &str = "elsewhere";

/// Refusals that were not put on record one by one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct More {
    /// The address that they came from.
    pub origin: String,
    /// How many.
    pub count: u64,
    /// The last of them.
    pub like: String,
}

/// What was refused lately, by the address that it came from.
#[derive(Debug, Default)]
pub struct Refusals(BTreeMap<String, Window>);

#[derive(Debug)]
struct Window {
    since_ms: i64,
    on_record: BTreeSet<String>,
    more: u64,
    like: String,
}

impl Refusals {
    /// Notes a refusal; says whether it is put on record by itself.
    pub fn note(&mut self, origin: &str, what: String, now_ms: i64) -> bool {
        let is_known = self.0.contains_key(origin);
        let origin = if is_known || self.0.len() < MOST_ORIGINS { origin } else { ELSEWHERE };
        let new = || Window { since_ms: now_ms, on_record: BTreeSet::new(), more: 0, like: String::new() };
        let window = self.0.entry(origin.to_owned()).or_insert_with(new);
        if window.on_record.contains(&what) || window.on_record.len() >= EACH {
            window.more += 1;
            window.like = what;
            return false;
        }
        window.on_record.insert(what)
    }

    /// Takes out what is over, and says what of it was not put on record.
    pub fn over(&mut self, now_ms: i64) -> Vec<More> {
        let is_over = |_: &String, window: &mut Window| now_ms.saturating_sub(window.since_ms).unsigned_abs() >= WINDOW_MS as u64;
        let over = self.0.extract_if(.., is_over).filter(|(_, window)| window.more > 0);
        over.map(|(origin, window)| More { origin, count: window.more, like: window.like }).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_of_refusals_makes_few_entries_and_none_is_lost_from_the_count() {
        let mut refusals = Refusals::default();
        let noted = (0..100_000).filter(|n| refusals.note("192.0.2.7", format!("call {}", n % 500), 0)).count();
        assert_eq!(noted, EACH);
        assert!(refusals.note("192.0.2.8", "call 1".into(), 0), "another's is on record");
        assert_eq!(refusals.over(WINDOW_MS - 1), []);
        let more = refusals.over(WINDOW_MS);
        let expected = More { origin: "192.0.2.7".into(), count: 100_000 - EACH as u64, like: "call 499".into() };
        assert_eq!(more, [expected]);
        assert!(refusals.note("192.0.2.7", "call 1".into(), WINDOW_MS), "it is news again");
    }

    #[test]
    fn many_origins_take_a_bounded_room() {
        let mut refusals = Refusals::default();
        for n in 0..50_000 {
            refusals.note(&format!("2001:db8::{n:x}"), "call".into(), 0);
        }
        assert!(refusals.0.len() <= MOST_ORIGINS + 1);
        let counted: u64 = refusals.over(WINDOW_MS).iter().map(|more| more.count).sum();
        assert_eq!(counted, 50_000 - MOST_ORIGINS as u64 - 1);
    }
}
