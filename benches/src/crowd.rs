//! Fifty workstations at once, beside one alone that does as much as each of them, and beside one with much more, by turns:
//! the machine is not as quick in one minute as in the next, so each turn has its own ratios, and the middle ones count.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use jetfrost_tests::programs::jetfrost_ends;

use crate::files::noise;
use crate::office::{Office, Station, mb, middle, outln};

const CROWD: usize = 50;
/// So many do, one after the other, what each of the crowd does.
const SINGLE: usize = 10;
/// So many of the crowd's folders are those of one workstation with much to send.
const LARGE: usize = 25;
const ROUNDS: usize = 3;
const FILES: u32 = 4;
const MEGABYTES: u32 = 20;

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let folders: Vec<PathBuf> = (0..CROWD).map(|i| scratch.join(format!("photos-{i}"))).collect();
    folders.iter().for_each(|folder| fs::create_dir(folder).expect("made"));
    let large = office.station("large");
    folders.iter().take(LARGE).for_each(|folder| large.keep(folder, false));
    let one_each = |name: &str, n: usize| -> Vec<Station> {
        let keeping = |(i, folder): (usize, &PathBuf)| {
            let station = office.station(&format!("{name}-{i}"));
            station.keep(folder, false);
            station
        };
        folders.iter().take(n).enumerate().map(keeping).collect()
    };
    // What is measured is what the service bears at once, not how it makes them wait: first backups come one after another.
    let _ = jetfrost_ends(&office.at("admin"), &["settings", "set", "--runs-at-once", "50"], 0);
    let stations = Stations { large, single: one_each("single", SINGLE), crowd: one_each("crowd", CROWD) };
    let all = stations.crowd.iter().chain(&stations.single).chain([&stations.large]);
    for station in all {
        let _ = station.back_up_unwatched();
    }
    let rounds: Vec<Round> = (0..ROUNDS).map(|_| round(&folders, &stations)).collect();
    outln(&format!(
        "50 at once     {:.2} of the rate of one that does as much (to be at least 0.8), {:.2} of that of one with {:.0} GB",
        middle(rounds.iter().map(|round| round.many / round.single)),
        middle(rounds.iter().map(|round| round.many / round.large)),
        LARGE as f64 * of_one() / 1e3,
    ));
    outln(&format!(
        "  slowest {:.2} times the median (to be at most 3); service {:.0} MB (to be below 250)",
        rounds.iter().map(|round| round.slowest).fold(0.0, f64::max),
        mb(office.daemon.peak_memory())
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

struct Stations {
    large: Station,
    single: Vec<Station>,
    crowd: Vec<Station>,
}

struct Round {
    /// Megabytes a second of one with much, of single ones, and of all at once.
    large: f64,
    single: f64,
    many: f64,
    /// How much longer the slowest took than the one in the middle.
    slowest: f64,
}

/// Megabytes that each of the crowd sends.
fn of_one() -> f64 {
    f64::from(FILES * MEGABYTES)
}

/// The files are new in each round.
fn round(folders: &[PathBuf], stations: &Stations) -> Round {
    folders.iter().for_each(|folder| noise(folder, FILES, MEGABYTES));
    let large = LARGE as f64 * of_one() / stations.large.back_up_unwatched();
    let single = SINGLE as f64 * of_one() / stations.single.iter().map(Station::back_up_unwatched).sum::<f64>();
    let began = Instant::now();
    let times: Vec<f64> = std::thread::scope(|scope| {
        let runs: Vec<_> = stations.crowd.iter().map(|station| scope.spawn(|| station.back_up_unwatched())).collect();
        runs.into_iter().map(|run| run.join().expect("no panic")).collect()
    });
    let many = CROWD as f64 * of_one() / began.elapsed().as_secs_f64();
    let slowest = times.iter().copied().fold(0.0, f64::max) / middle(times.iter().copied());
    outln(&format!("  a turn: {many:.0} MB/s; one that does as much {single:.0} MB/s, one with more {large:.0} MB/s"));
    Round { large, single, many, slowest }
}
