//! An office of 300 workstations on a stepped clock, with the agents' rule and the service's queue: laptops that come and go, 40 first
//! backups at once, and a day without the service. The figures are in `docs/scale.md`; `--nocapture` shows them.

#![expect(clippy::print_stderr, reason = "the figures are for whoever asks for them")]

use jetfrost_office::queue::{ASK_AGAIN_MS, Answer, Asks, Capacity, Kind, Queue, USUAL_CAP};
use jetfrost_office::schedule::{Conditions, Decision, Earlier, decide};
use jetfrost_types::{PowerSource, Schedule};

const SECOND: i64 = 1_000;
const HOUR: i64 = 3_600 * SECOND;
const DAY: i64 = 24 * HOUR;
const STEP: i64 = 5 * SECOND;
const DAYS: i64 = 5;
/// Monday, 4 January 2027, midnight.
const START: i64 = 1_799_020_800_000;
/// The third day, from eight to eight.
const OUTAGE: std::ops::Range<i64> = START + 2 * DAY + 8 * HOUR..START + 3 * DAY + 8 * HOUR;

const MACHINES: usize = 300;
const LAPTOPS: usize = 150;
const FIRST_BACKUPS: usize = 40;
/// The service's line, in bytes a second: a gigabit.
const LINE: f64 = 110e6;
/// Reading folders before the first byte goes.
const LOOKING_MS: i64 = 8 * SECOND;

/// xorshift64: the same office each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % most
    }

    fn between(&mut self, from: i64, to: i64) -> i64 {
        from + self.below((to - from).unsigned_abs()).cast_signed()
    }
}

#[derive(Clone, Copy)]
struct Run {
    sends_from: i64,
    left: f64,
}

struct Machine {
    name: String,
    /// Bytes a second.
    link: f64,
    /// When it is there; ascending.
    there: Vec<std::ops::Range<i64>>,
    /// A share of each presence that it is on battery, at its beginning: 0 for desktops.
    battery: f64,
    spread: u64,
    earlier: Earlier,
    /// What a first backup still has to send.
    first_left: Option<f64>,
    reachable_since: Option<i64>,
    /// Since when it is there, on mains, with the service there.
    free_since: Option<i64>,
    waits_since: Option<i64>,
    look_at: i64,
    run: Option<Run>,
    sent_before: u64,
}

impl Machine {
    fn presence(&self, now: i64) -> Option<&std::ops::Range<i64>> {
        let at = self.there.partition_point(|presence| presence.end <= now);
        self.there.get(at).filter(|presence| presence.contains(&now))
    }

    fn is_on_battery(&self, now: i64, presence: &std::ops::Range<i64>) -> bool {
        ((now - presence.start) as f64) < self.battery * (presence.end - presence.start) as f64
    }
}

/// What came of it.
#[derive(Debug, Default)]
struct Figures {
    runs: u32,
    /// The longest that somebody who could be backed up all the time was without a new point, beside first backups.
    longest_without_point: i64,
    longest_wait_of_small: i64,
    small_that_waited: u32,
    most_at_once: usize,
    first_done: Vec<i64>,
    /// When after the outage 99 in 100 of those that were there all the time had a new point.
    caught_up: i64,
    busiest: f64,
}

fn office(dice: &mut Dice) -> Vec<Machine> {
    (0..MACHINES).map(|n| machine(n, dice)).collect()
}

fn machine(n: usize, dice: &mut Dice) -> Machine {
    let is_laptop = n < LAPTOPS;
    let mut there = Vec::new();
    for day in 0..DAYS {
        let morning = START + day * DAY + dice.between(7 * HOUR, 9 * HOUR);
        if !is_laptop {
            // A third is never off.
            there.push(if n.is_multiple_of(3) {
                START + day * DAY..START + (day + 1) * DAY
            } else {
                morning..morning + 9 * HOUR
            });
            continue;
        }
        let mut at = morning;
        while at < START + day * DAY + 18 * HOUR {
            let end = at + dice.between(HOUR / 2, 4 * HOUR);
            there.push(at..end);
            at = end + dice.between(HOUR / 6, 2 * HOUR);
        }
    }
    // Those that are never off are there without a break.
    if !is_laptop && n.is_multiple_of(3) {
        there.clear();
        there.push(START..START + DAYS * DAY);
    }
    let is_new = n.is_multiple_of(MACHINES / FIRST_BACKUPS) && n / (MACHINES / FIRST_BACKUPS) < FIRST_BACKUPS;
    let link = match (is_laptop, n % 15) {
        (true, 0) => 1.5e6,
        (true, _) => 15e6,
        (false, _) => 60e6,
    };
    let of_slow = if link < 2e6 { 5 } else { 1 };
    Machine {
        name: format!("machine {n}"),
        link,
        there,
        battery: if is_laptop { dice.below(40) as f64 / 100.0 } else { 0.0 },
        spread: dice.below(u64::MAX),
        earlier: Earlier { completed: (!is_new).then(|| START - dice.between(0, 14 * HOUR)), failed: None },
        first_left: is_new.then(|| dice.between(50, 150) as f64 * 1e9 / f64::from(of_slow)),
        reachable_since: None,
        free_since: None,
        waits_since: None,
        look_at: START,
        run: None,
        sent_before: 20_000_000,
    }
}

/// What the service measures of its line.
struct Measured {
    best: f64,
    now: f64,
}

impl Measured {
    fn note(&mut self, bytes_a_second: f64) {
        self.now += (bytes_a_second - self.now) / 3.0;
        self.best = self.now.max(self.best * 0.9999);
    }

    fn capacity(&self) -> Capacity {
        Capacity { best: self.best as u64, now: self.now as u64, cap: USUAL_CAP, restores: 0 }
    }
}

struct Office {
    machines: Vec<Machine>,
    queue: Queue,
    measured: Measured,
    dice: Dice,
    figures: Figures,
}

impl Office {
    fn step(&mut self, now: i64) {
        let is_up = !OUTAGE.contains(&now);
        if now == OUTAGE.start {
            // It forgets who runs and who waits.
            self.queue = Queue::default();
        }
        for n in 0..self.machines.len() {
            self.look(n, is_up, now);
        }
        self.send(now);
        self.figures.most_at_once = self.figures.most_at_once.max(self.queue.counts().0);
    }

    /// A machine comes, goes, waits or begins.
    fn look(&mut self, n: usize, is_up: bool, now: i64) {
        let capacity = self.measured.capacity();
        let m = &mut self.machines[n];
        let presence = m.presence(now).cloned();
        let is_reachable = presence.is_some() && is_up;
        let on_battery = presence.as_ref().is_some_and(|presence| m.is_on_battery(now, presence));
        if !is_reachable || on_battery {
            // A run stops; what was sent stays.
            if let Some(run) = m.run.take() {
                m.first_left = m.first_left.map(|_| run.left);
                self.queue.end(&m.name, now);
            }
            (m.free_since, m.waits_since) = (None, None);
        }
        if !is_reachable {
            m.reachable_since = None;
            // The agent looks every 30 seconds whether the service answers.
            m.look_at = m.look_at.max(now);
            return;
        }
        m.reachable_since.get_or_insert(now);
        if !on_battery {
            let free = *m.free_since.get_or_insert(now);
            if m.first_left.is_none() {
                let without = now - free.max(m.earlier.completed.unwrap_or(0));
                self.figures.longest_without_point = self.figures.longest_without_point.max(without);
            }
        }
        if m.run.is_some() || m.look_at > now {
            return;
        }
        let conditions = Conditions {
            now,
            minute: u16::try_from(now / 60_000 % 1440).expect("a minute of a day"),
            is_metered: false,
            load_percent: 0,
            power: if on_battery { PowerSource::Battery } else { PowerSource::Mains },
            reachable_since: m.reachable_since,
            paused_until: None,
            paused_by_office_until: None,
            office_ahead: 0,
            spread: m.spread,
        };
        match decide(&Schedule::USUAL, &m.earlier, &conditions) {
            Decision::Due(at) | Decision::Delayed(_, at) => m.look_at = at,
            Decision::Start => self.ask(n, &capacity, now),
        }
    }

    fn ask(&mut self, n: usize, capacity: &Capacity, now: i64) {
        let m = &mut self.machines[n];
        let kind = Kind::expected(m.earlier.completed.map(|_| m.sent_before));
        let asks = Asks { kind, overdue_at: m.earlier.completed.map(|at| at + 72 * HOUR) };
        match self.queue.ask(&m.name, asks, capacity, now) {
            Answer::Admitted => {
                if let (Some(since), Kind::Small) = (m.waits_since, kind) {
                    self.figures.longest_wait_of_small = self.figures.longest_wait_of_small.max(now - since);
                    self.figures.small_that_waited += 1;
                }
                m.waits_since = None;
                let megabytes = if self.dice.below(100) == 0 { 2_000 } else { self.dice.between(2, 60) };
                let left = m.first_left.unwrap_or(megabytes as f64 * 1e6);
                m.run = Some(Run { sends_from: now + LOOKING_MS, left });
            }
            Answer::Waits { .. } => {
                m.waits_since.get_or_insert(now);
                m.look_at = now + ASK_AGAIN_MS;
            }
        }
    }

    /// All that send share the line.
    fn send(&mut self, now: i64) {
        let mut left = LINE;
        let mut sending: Vec<usize> =
            (0..self.machines.len()).filter(|n| self.machines[*n].run.is_some_and(|run| run.sends_from <= now)).collect();
        sending.sort_by(|a, b| self.machines[*a].link.total_cmp(&self.machines[*b].link));
        let mut together = 0.0;
        for (at, n) in sending.iter().enumerate() {
            let rate = self.machines[*n].link.min(left / (sending.len() - at) as f64);
            left -= rate;
            together += rate;
            self.sends(*n, rate, now);
        }
        self.measured.note(together);
        self.figures.busiest = self.figures.busiest.max(self.measured.now);
    }

    fn sends(&mut self, n: usize, rate: f64, now: i64) {
        let m = &mut self.machines[n];
        let Some(run) = &mut m.run else { return };
        run.left -= rate * (STEP / SECOND) as f64;
        self.queue.note_activity(&m.name, now);
        if run.left > 0.0 {
            return;
        }
        if m.first_left.take().is_some() {
            self.figures.first_done.push(now);
        }
        (m.run, m.earlier.completed, m.look_at) = (None, Some(now), now);
        self.figures.runs += 1;
        // Whoever is next hears of it, and asks at once.
        self.queue.end(&m.name, now);
        for next in self.queue.next(&self.measured.capacity(), now) {
            if let Some(waiting) = self.machines.iter_mut().find(|m| m.name == next) {
                waiting.look_at = now;
            }
        }
    }

    /// Of those that are there since the outage ended, whether 99 in 100 have a point from after it.
    fn has_caught_up(&self) -> bool {
        let there: Vec<&Machine> = self
            .machines
            .iter()
            .filter(|m| m.first_left.is_none() && m.free_since.is_some_and(|since| since <= OUTAGE.end + STEP))
            .collect();
        let new = there.iter().filter(|m| m.earlier.completed.is_some_and(|at| at >= OUTAGE.end)).count();
        new * 100 >= there.len() * 99
    }
}

#[test]
fn nobody_starves_and_whoever_can_be_backed_up_is() {
    let mut dice = Dice(0x1e7f_0573_a11d_0ff1);
    let machines = office(&mut dice);
    let measured = Measured { best: 0.0, now: 0.0 };
    let mut office = Office { machines, queue: Queue::default(), measured, dice, figures: Figures::default() };
    let mut now = START;
    while now < START + DAYS * DAY {
        office.step(now);
        if now > OUTAGE.end && office.figures.caught_up == 0 && office.has_caught_up() {
            office.figures.caught_up = now - OUTAGE.end;
        }
        now += STEP;
    }
    let f = &office.figures;
    let seconds = |ms: i64| ms / SECOND;
    let hours = |at: &i64| (at - START) as f64 / HOUR as f64;
    eprintln!(
        "{} runs, {} at once at most, {:.0} MB/s at most; without a new point for {} s at most; {} small runs waited, {} s at most; \
         first backups: {} done after {:.0} h, half of them after {:.0} h; caught up {} s after the outage",
        f.runs,
        f.most_at_once,
        f.busiest / 1e6,
        seconds(f.longest_without_point),
        f.small_that_waited,
        seconds(f.longest_wait_of_small),
        f.first_done.len(),
        f.first_done.last().map_or(0.0, hours),
        f.first_done.get(FIRST_BACKUPS / 2 - 1).map_or(0.0, hours),
        seconds(f.caught_up),
    );
    assert!(f.longest_without_point < 2 * HOUR, "twice the rhythm");
    assert!(f.longest_wait_of_small < HOUR / 4);
    assert_eq!(f.first_done.len(), FIRST_BACKUPS, "each is done within the week");
    assert!(f.caught_up > 0 && f.caught_up < HOUR / 2);
    assert!(f.most_at_once <= USUAL_CAP as usize);
}
