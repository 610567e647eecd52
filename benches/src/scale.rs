//! `jetfrost-bench scale`: a year of a workstation, simulated with the office's own rule, and what many of them come to.
//!
//! Nothing here is measured; sizes per chunk, name and segment are those of the format, and the assumptions are printed.

use jetfrost_office::retention::{Fate, PointFacts, PointKind, Rule, fates};
use jiff::tz::TimeZone;

const HOUR_MS: i64 = 3_600_000;
const DAYS: i64 = 365;
/// Runs of a working day, one an hour.
const RUNS: i64 = 9;
/// Content chunks of the simulated workstation; everything is proportional to them.
const CHUNKS: usize = 40_000;
/// Of all changes so many hit the same twentieth of the chunks.
const HOT: f64 = 0.8;
/// Chunks in a segment of 16 MiB.
const IN_SEGMENT: usize = 170;
const MOST_DEAD: f64 = 0.10;

/// Content bytes of a chunk, and what is stored of it.
const CONTENT: f64 = 160_000.0;
const STORED: f64 = 96_000.0;
/// Index entry, record and footer (§ 5, § 8 of the format), and a name in a needs file (§ 7).
const INDEX_ENTRY: f64 = 44.0;
const RECORD: f64 = 80.0;
const NAME: f64 = 32.0;

/// A version of a chunk: from which run to which it was part of the workstation, and in which segment it lies.
struct Version {
    born: i64,
    died: i64,
    segment: usize,
    needed: bool,
}

/// What a year of one workstation came to, per chunk that it has.
struct Year {
    points: usize,
    /// Versions that are kept.
    kept: f64,
    /// Versions sent in the year, without the first run.
    sent: f64,
    /// Versions in segments that nothing needs.
    dead: f64,
    /// Versions read and written again by compaction in the year.
    rewritten: f64,
    /// Names in needs files.
    names: f64,
}

struct Dice(u64);

impl Dice {
    /// A number below one (xorshift64*).
    fn throw(&mut self) -> f64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 11) as f64 / (1_u64 << 53) as f64
    }
}

fn year(daily_change: f64, rule: &Rule) -> Year {
    let mut dice = Dice(0x9e37_79b9_7f4a_7c15);
    let version = |born, segment| Version { born, died: i64::MAX, segment, needed: true };
    let mut versions: Vec<Version> = (0..CHUNKS).map(|i| version(0, i / IN_SEGMENT)).collect();
    let mut current: Vec<usize> = (0..CHUNKS).collect();
    let mut segments: Vec<(usize, usize)> = vec![(IN_SEGMENT, IN_SEGMENT); CHUNKS.div_ceil(IN_SEGMENT)];
    let mut points: Vec<PointFacts> = vec![point(0, 0)];
    let (mut sent, mut rewritten) = (0_usize, 0_usize);
    let per_run = daily_change * CHUNKS as f64 / RUNS as f64;
    for day in 0..DAYS {
        for hour in 0..RUNS {
            let run = day * RUNS + hour + 1;
            let changes = (per_run + dice.throw()) as usize;
            let mut open = (usize::MAX, 0);
            for _ in 0..changes {
                let within = if dice.throw() < HOT { CHUNKS / 20 } else { CHUNKS };
                let at = (dice.throw() * within as f64) as usize;
                versions[current[at]].died = run;
                // A run packs what it sends into segments of its own.
                if open.1 == 0 {
                    segments.push((0, 0));
                    open = (segments.len() - 1, IN_SEGMENT);
                }
                open.1 -= 1;
                segments[open.0].0 += 1;
                segments[open.0].1 += 1;
                current[at] = versions.len();
                versions.push(version(run, open.0));
                sent += 1;
            }
            points.push(point(run, (day * 24 + 8 + hour) * HOUR_MS));
        }
        let now = (day * 24 + 23) * HOUR_MS;
        let fate = fates(&points, Some(rule), &TimeZone::UTC, now);
        let mut fate = fate.iter();
        points.retain(|_| fate.next() != Some(&Fate::Goes));
        rewritten += tidy(&mut versions, &mut segments, &points);
    }
    let kept = versions.iter().filter(|v| v.needed).count();
    let total: usize = segments.iter().map(|(_, total)| total).sum();
    let share = |n: usize| n as f64 / CHUNKS as f64;
    Year {
        points: points.len(),
        kept: share(kept),
        sent: share(sent),
        dead: share(total.saturating_sub(kept)),
        rewritten: share(rewritten),
        names: share(names(&versions, &points)),
    }
}

fn point(run: i64, committed_ms: i64) -> PointFacts {
    let sequence = u64::try_from(run).expect("runs are counted upwards") + 1;
    PointFacts { sequence, kind: PointKind::Files, committed_ms, complete: true, held: false }
}

fn run_of(point: &PointFacts) -> i64 {
    point.sequence.cast_signed() - 1
}

/// Notes what is no longer needed and rewrites the emptiest segments until little is dead. Returns the versions rewritten.
fn tidy(versions: &mut [Version], segments: &mut Vec<(usize, usize)>, points: &[PointFacts]) -> usize {
    for version in versions.iter_mut().filter(|v| v.needed && v.died != i64::MAX) {
        let next = points.partition_point(|p| run_of(p) < version.born);
        if points.get(next).is_none_or(|p| run_of(p) >= version.died) {
            version.needed = false;
            segments[version.segment].0 -= 1;
        }
    }
    segments.iter_mut().filter(|(live, _)| *live == 0).for_each(|segment| *segment = (0, 0));
    let (live, total) = segments.iter().fold((0, 0), |sum, s| (sum.0 + s.0, sum.1 + s.1));
    let mut dead = total - live;
    let mut order: Vec<usize> = (0..segments.len()).filter(|i| segments[*i].1 > segments[*i].0).collect();
    order.sort_by(|a, b| {
        let share = |i: &usize| segments[*i].0 as f64 / segments[*i].1 as f64;
        share(a).total_cmp(&share(b))
    });
    let (mut rewritten, mut into) = (0, vec![usize::MAX; segments.len()]);
    let mut open = (usize::MAX, 0);
    for i in order {
        if dead as f64 <= MOST_DEAD * total as f64 {
            break;
        }
        if open.1 < segments[i].0 {
            segments.push((0, 0));
            open = (segments.len() - 1, IN_SEGMENT);
        }
        dead -= segments[i].1 - segments[i].0;
        rewritten += segments[i].0;
        open.1 -= segments[i].0;
        segments[open.0].0 += segments[i].0;
        segments[open.0].1 += segments[i].0;
        (into[i], segments[i]) = (open.0, (0, 0));
    }
    for version in versions.iter_mut().filter(|v| v.needed) {
        if let Some(to) = into.get(version.segment).filter(|to| **to != usize::MAX) {
            version.segment = *to;
        }
    }
    rewritten
}

/// Names in the needs files: the first point's set, then differences between neighbours.
fn names(versions: &[Version], points: &[PointFacts]) -> usize {
    let alive = |v: &Version, point: &PointFacts| v.born <= run_of(point) && run_of(point) < v.died;
    let first = points.first().map_or(0, |p| versions.iter().filter(|v| alive(v, p)).count());
    let differ = |pair: &[PointFacts]| versions.iter().filter(|v| alive(v, &pair[0]) != alive(v, &pair[1])).count();
    first + points.windows(2).map(differ).sum::<usize>()
}

/// Prints a year of one workstation, then offices of two sizes.
pub(super) fn run() {
    let rule = Rule { hours: 72, days: 30, weeks: 12, months: 24, years: 0, at_least: 3 };
    println!("A year, {RUNS} runs a day, rule: 72 hours, 30 days, 12 weeks, 24 months, at least 3.");
    println!(
        "Chunks of {} kB, {} kB stored; four fifths of the changes hit a twentieth of the data.\n",
        CONTENT / 1e3,
        STORED / 1e3
    );
    println!("changed a day   points   kept      sent a year   dead   rewritten a year   names in needs files");
    let years: Vec<(f64, Year)> = [0.002, 0.01, 0.03].map(|change| (change, year(change, &rule))).into();
    for (change, y) in &years {
        println!(
            "{:>10.1} %   {:>6}   {:.2} x   {:>7.1} x     {:>3.0} %   {:>8.1} x          {:.2} x",
            change * 100.0,
            y.points,
            y.kept,
            y.sent,
            100.0 * y.dead / (y.kept + y.dead),
            y.rewritten,
            y.names
        );
    }
    println!("(x: times the chunks that the workstation has)\n");
    let usual = &years[1].1;
    office("300 workstations of 1 TB on one server", 300.0, 1e12, 1.0, usual);
    office("10,000 workstations of 1 TB on 20 servers", 10_000.0, 1e12, 20.0, usual);
}

/// What an office comes to, for each of its servers.
fn office(what: &str, workstations: f64, content: f64, servers: f64, y: &Year) {
    let each = workstations / servers;
    let chunks = content / CONTENT;
    let stored = chunks * (y.kept + y.dead) * (STORED + RECORD);
    let index = chunks * (y.kept + y.dead) * INDEX_ENTRY;
    let needs = chunks * y.names * NAME;
    let sent = chunks * y.sent * (STORED + RECORD) / DAYS as f64;
    let rewritten = chunks * y.rewritten * (STORED + RECORD) / DAYS as f64;
    let segment = IN_SEGMENT as f64 * STORED;
    println!("{what}, 1 % changed a day; for each server:");
    println!("  stored              {:>8.1} TB in {:.1} million segments", each * stored / 1e12, each * stored / segment / 1e6);
    println!("  index on disk       {:>8.1} GB ({:.0} MB a workstation)", each * index / 1e9, index / 1e6);
    println!("  needs on disk       {:>8.1} GB ({:.0} MB a workstation)", each * needs / 1e9, needs / 1e6);
    println!(
        "  arrives a day       {:>8.2} TB, {:.0} MB/s over eight hours",
        each * sent / 1e12,
        each * sent / 8.0 / 3600.0 / 1e6
    );
    println!(
        "  rewritten a day     {:>8.2} TB, {:.0} MB/s over sixteen hours",
        each * rewritten / 1e12,
        each * rewritten / 16.0 / 3600.0 / 1e6
    );
    println!("  scrub in 30 days    {:>8.0} MB/s all the time", each * stored / 30.0 / 86_400.0 / 1e6);
    println!("  runs                {:>8.2} a second in working hours", each * RUNS as f64 / 8.0 / 3600.0);
    // One unit is what a gigabyte costs for a month.
    let (month, put, get) = (each * stored / 1e9, each * (sent + rewritten) / segment * 30.0, each * rewritten / segment * 30.0);
    let scrub = each * stored / segment;
    println!(
        "  object store        {:>8.0} units a month for room, {:.0} for {:.1} million writes, {:.1} for {:.1} million reads (half of them the scrub's)\n",
        month,
        put / 1000.0 * PUT,
        put / 1e6,
        (get + scrub) / 1000.0 * GET,
        (get + scrub) / 1e6
    );
}

/// Units for a thousand writes and reads, as object stores sell them beside a gigabyte a month.
const PUT: f64 = 0.22;
const GET: f64 = 0.018;
