//! The queue: which runs a service admits at once, and who is next.
//!
//! So many runs go on at once as what was measured gives each a fair rate, within the administrator's cap. First backups are admitted
//! one after another, and large runs leave places for small ones, so that an hourly run of a few megabytes does not wait behind one
//! of hundreds of gigabytes. Of those that wait, the overdue come first, then whoever waits longest. Restores do not wait; while
//! some go on, fewer runs are admitted. Whoever waits asks again; who does not is gone, and its place is free. A run of which nothing
//! comes takes no place either: whoever begins runs and idles keeps nobody from being backed up.

use std::collections::BTreeMap;

/// Whoever waits and has not asked for so long is gone.
pub const GONE_MS: i64 = 90_000;
/// Whoever waits asks again after this at the latest.
pub const ASK_AGAIN_MS: i64 = 20_000;
/// What is worth sharing: below this each run would only last longer. In bytes a second.
const FAIR_RATE: u64 = 10_000_000;
/// Before anything was measured, and where a line is slow, so many are admitted.
const LEAST_AT_ONCE: u32 = 4;
/// The usual cap.
pub const USUAL_CAP: u32 = 16;
/// A run that is expected to send more than this is large, in bytes.
pub const LARGE: u64 = 512 << 20;
/// A quarter of the places, and one at least, is for runs that are not large.
const SMALL_SHARE: u32 = 4;
/// Two first backups begin so far apart at least: what one takes of the line shows only after a while.
const FIRST_APART_MS: i64 = 10_000;
/// A run of which nothing came for so long takes no place: it looks through folders, or idles.
const IDLE_MS: i64 = 120_000;
/// Whoever has waited for longer is admitted whatever goes on: those that run may mean no good, and trickle.
const PATIENCE_MS: i64 = 30 * 60_000;
/// The same for large runs and first backups, of which many may wait for good reasons.
const PATIENCE_LARGE_MS: i64 = 24 * 3_600_000;
/// What a run takes when none was seen to end, in milliseconds.
const UNKNOWN_RUN_MS: i64 = 60_000;

/// What a run is likely to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// A run that sends what changed.
    Small,
    /// One that is expected to send more than [`LARGE`].
    Large,
    /// The first of a workstation: it sends everything.
    First,
}

impl Kind {
    /// From what the run before sent; none for a first one.
    #[must_use]
    pub fn expected(sent_before: Option<u64>) -> Self {
        match sent_before {
            None => Self::First,
            Some(sent) if sent > LARGE => Self::Large,
            Some(_) => Self::Small,
        }
    }
}

/// What the service can do, as it was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capacity {
    /// The most that came in within a second of late, averaged over a while; 0 before anything was measured.
    pub best: u64,
    /// What comes in now, likewise.
    pub now: u64,
    /// The administrator's cap.
    pub cap: u32,
    /// Restores in progress.
    pub restores: u32,
}

impl Capacity {
    /// How many runs are admitted at once.
    #[must_use]
    pub fn at_once(&self) -> u32 {
        let by_rate = u32::try_from(self.best / FAIR_RATE).unwrap_or(u32::MAX).max(LEAST_AT_ONCE);
        let most = by_rate.min(self.cap).max(1);
        if self.restores > 0 { most.div_ceil(2) } else { most }
    }

    /// Whether first backups in progress leave half of the line unused.
    fn has_line_left(&self) -> bool {
        self.best == 0 || self.now < self.best / 2
    }
}

/// Who asks for admission. Times are Unix milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asks {
    /// What its run is likely to be.
    pub kind: Kind,
    /// When its last complete point becomes too old; none without a point.
    pub overdue_at: Option<i64>,
}

/// What becomes of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Its run begins.
    Admitted,
    /// It waits.
    Waits {
        /// At which place among those that wait, from 1.
        place: u32,
        /// For how long it is likely to, in milliseconds.
        expected_ms: i64,
    },
}

#[derive(Debug, Clone, Copy)]
struct Waiting {
    asks: Asks,
    since: i64,
    heard: i64,
}

impl Waiting {
    fn is_there(&self, now: i64) -> bool {
        (0..GONE_MS).contains(&(now - self.heard))
    }

    fn is_out_of_patience(&self, now: i64) -> bool {
        let patience = if self.asks.kind == Kind::Small { PATIENCE_MS } else { PATIENCE_LARGE_MS };
        now - self.since > patience
    }
}

#[derive(Debug, Clone, Copy)]
struct Running {
    kind: Kind,
    since: i64,
    /// When something came of it last, or it began.
    active: i64,
}

/// Who runs, and who waits. In memory: after a restart whoever waits asks again, and what runs is told by [`Queue::runs`].
#[derive(Debug, Default)]
pub struct Queue {
    running: BTreeMap<String, Running>,
    waiting: BTreeMap<String, Waiting>,
    first_began: Option<i64>,
    /// How long runs of a kind take, averaged with the latest counting most.
    takes_ms: BTreeMap<Kind, i64>,
}

impl Queue {
    /// Asks for a workstation, again or for the first time. One that runs already is admitted: its new run ends the one before.
    pub fn ask(&mut self, who: &str, asks: Asks, capacity: &Capacity, now: i64) -> Answer {
        self.waiting.retain(|_, waiting| waiting.is_there(now));
        if self.running.contains_key(who) {
            self.waiting.remove(who);
            return Answer::Admitted;
        }
        let since = self.waiting.get(who).map_or(now, |waiting| waiting.since);
        self.waiting.insert(who.to_owned(), Waiting { asks, since, heard: now });
        if self.next(capacity, now).iter().any(|admitted| admitted == who) {
            self.waiting.remove(who);
            self.begin(who, asks.kind, now);
            return Answer::Admitted;
        }
        let ahead = self.in_order(now).iter().take_while(|(waiting, _)| *waiting != who).count();
        let place = u32::try_from(ahead).unwrap_or(u32::MAX).saturating_add(1);
        Answer::Waits { place, expected_ms: self.expected_ms(asks.kind, who, capacity, now) }
    }

    /// A run that goes on without having asked: it began before the service was started.
    pub fn runs(&mut self, who: &str, kind: Kind, now: i64) {
        self.running.entry(who.to_owned()).or_insert(Running { kind, since: now, active: now });
    }

    /// Something came of a run.
    pub fn note_activity(&mut self, who: &str, now: i64) {
        if let Some(running) = self.running.get_mut(who) {
            running.active = now;
        }
    }

    /// A run is over, however it ended.
    pub fn end(&mut self, who: &str, now: i64) {
        if let Some(Running { kind, since, .. }) = self.running.remove(who) {
            let took = (now - since).max(0);
            let known = self.takes_ms.entry(kind).or_insert(took);
            *known = (*known * 3 + took) / 4;
        }
    }

    /// Where a workstation that waits stands.
    #[must_use]
    pub fn place(&self, who: &str, now: i64) -> Option<u32> {
        let at = self.in_order(now).iter().position(|(waiting, _)| *waiting == who)?;
        u32::try_from(at + 1).ok()
    }

    /// Whether anybody waits.
    #[must_use]
    pub fn has_waiting(&self, now: i64) -> bool {
        self.waiting.values().any(|waiting| waiting.is_there(now))
    }

    /// Workstations that run, and that wait.
    #[must_use]
    pub fn counts(&self) -> (usize, usize) {
        (self.running.len(), self.waiting.len())
    }

    fn begin(&mut self, who: &str, kind: Kind, now: i64) {
        if kind == Kind::First {
            self.first_began = Some(now);
        }
        self.running.insert(who.to_owned(), Running { kind, since: now, active: now });
    }

    /// Those that wait, the next first: the overdue by how long they are, then by how long they wait.
    fn in_order(&self, now: i64) -> Vec<(&str, &Waiting)> {
        let there = self.waiting.iter().filter(|(_, waiting)| waiting.is_there(now));
        let mut all: Vec<(&str, &Waiting)> = there.map(|(who, waiting)| (who.as_str(), waiting)).collect();
        all.sort_by_key(|(who, waiting)| {
            let overdue = waiting.asks.overdue_at.filter(|at| *at <= now);
            (overdue.is_none(), overdue, waiting.since, *who)
        });
        all
    }

    /// Whoever of those that wait would be admitted if they asked now. A place that is free for somebody who waits is kept for them: they ask again
    /// soon, or are gone.
    #[must_use]
    pub fn next(&self, capacity: &Capacity, now: i64) -> Vec<String> {
        let active = self.running.values().filter(|running| now - running.active < IDLE_MS);
        let mut kinds: Vec<Kind> = active.map(|running| running.kind).collect();
        let mut first_began = self.first_began;
        let mut admitted = Vec::new();
        for (who, waiting) in self.in_order(now) {
            let kind = waiting.asks.kind;
            if waiting.is_out_of_patience(now) || fits(kind, &kinds, first_began, capacity, now) {
                kinds.push(kind);
                if kind == Kind::First {
                    first_began = Some(now);
                }
                admitted.push(who.to_owned());
            }
        }
        admitted
    }

    fn expected_ms(&self, kind: Kind, who: &str, capacity: &Capacity, now: i64) -> i64 {
        let takes = |kind: Kind| self.takes_ms.get(&kind).copied().unwrap_or(UNKNOWN_RUN_MS);
        let ahead = self.in_order(now).into_iter().take_while(|(waiting, _)| *waiting != who);
        let of_its_kind = i64::try_from(ahead.filter(|(_, waiting)| waiting.asks.kind == kind).count()).unwrap_or(i64::MAX);
        let at_once = match kind {
            Kind::First => 1,
            Kind::Small | Kind::Large => i64::from(capacity.at_once()),
        };
        // Half a run until the next ends, and then one after another.
        takes(kind) / 2 + takes(kind).saturating_mul(of_its_kind) / at_once
    }
}

/// Whether one more of a kind fits beside those that run.
fn fits(kind: Kind, running: &[Kind], first_began: Option<i64>, capacity: &Capacity, now: i64) -> bool {
    let at_once = capacity.at_once() as usize;
    let is_large = |kind: &Kind| *kind != Kind::Small;
    if running.len() >= at_once {
        return false;
    }
    if kind == Kind::Small {
        return true;
    }
    let for_small = (at_once / SMALL_SHARE as usize).max(1);
    if running.iter().filter(|kind| is_large(kind)).count() >= at_once.saturating_sub(for_small).max(1) {
        return false;
    }
    let firsts = running.iter().filter(|kind| **kind == Kind::First).count();
    let apart = first_began.is_none_or(|began| now - began >= FIRST_APART_MS);
    kind != Kind::First || firsts == 0 || (apart && capacity.has_line_left())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const NOW: i64 = 1_800_000_000_000;
    const LINE: Capacity = Capacity { best: 110_000_000, now: 100_000_000, cap: USUAL_CAP, restores: 0 };

    fn asks(kind: Kind) -> Asks {
        Asks { kind, overdue_at: (kind != Kind::First).then_some(NOW + 1_000_000) }
    }

    fn place(answer: Answer) -> Option<u32> {
        match answer {
            Answer::Admitted => None,
            Answer::Waits { place, .. } => Some(place),
        }
    }

    #[test]
    fn so_many_run_at_once_as_the_line_gives_each_a_fair_rate_within_the_cap() {
        assert_eq!(LINE.at_once(), 11);
        assert_eq!(Capacity { best: 0, ..LINE }.at_once(), 4, "nothing measured yet");
        assert_eq!(Capacity { best: 1_000_000_000, ..LINE }.at_once(), 16);
        assert_eq!(Capacity { cap: 2, ..LINE }.at_once(), 2);
        assert_eq!(Capacity { restores: 1, ..LINE }.at_once(), 6, "restores come first");
    }

    #[test]
    fn small_runs_are_not_stuck_behind_large_ones_nor_behind_first_backups() {
        let mut queue = Queue::default();
        for n in 0..20 {
            let kind = if n % 2 == 0 { Kind::Large } else { Kind::First };
            queue.ask(&format!("large {n}"), asks(kind), &LINE, NOW);
        }
        assert_eq!(place(queue.ask("small", asks(Kind::Small), &LINE, NOW)), None);
        let (running, waiting) = queue.counts();
        assert!(running <= 11 && waiting > 0, "{running} and {waiting}");
    }

    #[test]
    fn first_backups_come_one_after_another_unless_they_leave_the_line_idle() {
        let mut queue = Queue::default();
        assert_eq!(place(queue.ask("knot", asks(Kind::First), &LINE, NOW)), None);
        assert_eq!(place(queue.ask("dunlin", asks(Kind::First), &LINE, NOW)), Some(1));
        let idle = Capacity { now: 2_000_000, ..LINE };
        assert_eq!(place(queue.ask("dunlin", asks(Kind::First), &idle, NOW + 5_000)), Some(1), "it has hardly begun");
        let later = NOW + FIRST_APART_MS;
        assert_eq!(place(queue.ask("dunlin", asks(Kind::First), &LINE, later)), Some(1), "the line is taken");
        assert_eq!(place(queue.ask("dunlin", asks(Kind::First), &idle, later)), None, "one over a slow uplink holds nobody up");
    }

    #[test]
    fn whoever_begins_runs_and_idles_keeps_nobody_from_being_backed_up() {
        let mut queue = Queue::default();
        let (ask, kinds) =
            (|queue: &mut Queue, who: &str, kind, at| place(queue.ask(who, asks(kind), &LINE, at)), [Kind::Large, Kind::First]);
        for n in 0..11 {
            assert_eq!(ask(&mut queue, &format!("stolen {n}"), Kind::Small, NOW), None);
        }
        assert_eq!(ask(&mut queue, "knot", Kind::Small, NOW), Some(1));
        queue.note_activity("stolen 0", NOW + IDLE_MS);
        let later = NOW + IDLE_MS;
        assert_eq!(ask(&mut queue, "dunlin", Kind::Small, later), None);
        assert_eq!(kinds.map(|kind| ask(&mut queue, kind_name(kind), kind, later)), [None, None], "also large ones");
    }

    #[test]
    fn whoever_trickles_with_many_stolen_credentials_keeps_nobody_waiting_for_ever() {
        for (kind, patience) in [(Kind::Small, PATIENCE_MS), (Kind::First, PATIENCE_LARGE_MS)] {
            let mut queue = Queue::default();
            for n in 0..11 {
                queue.ask(&format!("stolen {n}"), asks(Kind::Small), &LINE, NOW);
            }
            let mut now = NOW;
            while place(queue.ask("knot", asks(kind), &LINE, now)).is_some() {
                assert!(now - NOW <= patience, "{kind:?}");
                now += ASK_AGAIN_MS;
                (0..11).for_each(|n| queue.note_activity(&format!("stolen {n}"), now));
            }
            assert!(now - NOW > patience);
        }
    }

    fn kind_name(kind: Kind) -> &'static str {
        match kind {
            Kind::Small => "small",
            Kind::Large => "large",
            Kind::First => "first",
        }
    }

    #[test]
    fn the_overdue_come_first_and_whoever_goes_away_frees_the_place() {
        let small = Capacity { cap: 1, ..LINE };
        let mut queue = Queue::default();
        assert_eq!(place(queue.ask("runs", asks(Kind::Small), &small, NOW)), None);
        assert_eq!(place(queue.ask("punctual", asks(Kind::Small), &small, NOW + 1)), Some(1));
        let overdue = Asks { kind: Kind::Small, overdue_at: Some(NOW - 5) };
        assert_eq!(place(queue.ask("overdue", overdue, &small, NOW + 2)), Some(1));
        assert_eq!(queue.place("punctual", NOW + 2), Some(2));
        queue.end("runs", NOW + 3);
        assert_eq!(queue.next(&small, NOW + 3), ["overdue"]);
        assert_eq!(place(queue.ask("punctual", asks(Kind::Small), &small, NOW + 3)), Some(2), "the place is kept");
        let gone = NOW + 2 + GONE_MS;
        assert_eq!((queue.place("overdue", gone), queue.has_waiting(gone)), (None, true));
        assert_eq!(place(queue.ask("punctual", asks(Kind::Small), &small, gone)), None, "who does not ask again is gone");
    }

    #[test]
    fn a_workstation_that_runs_is_admitted_again_and_a_wait_says_how_long() {
        let one = Capacity { cap: 1, ..LINE };
        let mut queue = Queue::default();
        queue.runs("knot", Kind::Small, NOW);
        assert_eq!(place(queue.ask("knot", asks(Kind::Small), &one, NOW)), None, "its client was started again");
        queue.end("knot", NOW + 40_000);
        queue.ask("knot", asks(Kind::Small), &one, NOW + 40_000);
        queue.ask("dunlin", asks(Kind::Small), &one, NOW + 40_000);
        let answer = queue.ask("avocet", asks(Kind::Small), &one, NOW + 40_001);
        assert_eq!(answer, Answer::Waits { place: 2, expected_ms: 20_000 + 40_000 });
    }

    proptest! {
        #[test]
        fn never_more_run_than_fit_and_nobody_is_lost(steps in proptest::collection::vec((0..30_u8, 0..4_u8, 1..6_000_i64), 1..300), cap in 1..20_u32) {
            let capacity = Capacity { cap, ..LINE };
            let mut queue = Queue::default();
            let mut now = NOW;
            for (who, what, later) in steps {
                now += later;
                let name = who.to_string();
                let kind = [Kind::Small, Kind::Large, Kind::First][usize::from(who % 3)];
                if what == 0 {
                    queue.end(&name, now);
                } else {
                    let answer = queue.ask(&name, asks(kind), &capacity, now);
                    prop_assert_eq!(queue.place(&name, now), place(answer));
                }
                let active = queue.running.values().filter(|running| now - running.active < IDLE_MS).count();
                prop_assert!(active <= capacity.at_once() as usize);
            }
        }
    }
}
