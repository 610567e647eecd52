//! Fifty workstations at once, beside one alone, by turns: the machine is not as quick in one minute as in the next, so each turn
//! has its own ratio, and the middle one counts.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use crate::files::noise;
use crate::office::{Office, Station, mb, outln};

const CROWD: usize = 50;
/// So many of the crowd's folders are one workstation's that is alone.
const ALONE: usize = 25;
const ROUNDS: usize = 3;
const FILES: u32 = 4;
const MEGABYTES: u32 = 20;

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let folders: Vec<PathBuf> = (0..CROWD).map(|i| scratch.join(format!("photos-{i}"))).collect();
    folders.iter().for_each(|folder| fs::create_dir(folder).expect("made"));
    let alone = office.station("alone");
    folders.iter().take(ALONE).for_each(|folder| alone.keep(folder, false));
    let crowd: Vec<Station> = folders
        .iter()
        .enumerate()
        .map(|(i, folder)| {
            let station = office.station(&format!("crowd-{i}"));
            station.keep(folder, false);
            station
        })
        .collect();
    let mut rounds: Vec<Round> = (0..ROUNDS).map(|_| round(&folders, &alone, &crowd)).collect();
    rounds.sort_by(|a, b| (a.many / a.one).total_cmp(&(b.many / b.one)));
    let Round { many, one, .. } = rounds[ROUNDS / 2];
    outln(&format!("50 at once     {many:.0} MB/s, one alone {one:.0} MB/s: {:.2} of its rate (to be at least 0.8)", many / one));
    outln(&format!(
        "  slowest {:.2} times the median (to be at most 3); service {:.0} MB (to be below 250)",
        rounds.iter().map(|round| round.slowest).fold(0.0, f64::max),
        mb(office.daemon.peak_memory())
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

struct Round {
    /// Megabytes a second of one alone, and of all at once.
    one: f64,
    many: f64,
    /// How much longer the slowest took than the one in the middle.
    slowest: f64,
}

/// The files are new in each round.
fn round(folders: &[PathBuf], alone: &Station, crowd: &[Station]) -> Round {
    folders.iter().for_each(|folder| noise(folder, FILES, MEGABYTES));
    let of_one = f64::from(FILES * MEGABYTES);
    let one = ALONE as f64 * of_one / alone.back_up_unwatched();
    let began = Instant::now();
    let mut times: Vec<f64> = std::thread::scope(|scope| {
        let runs: Vec<_> = crowd.iter().map(|station| scope.spawn(|| station.back_up_unwatched())).collect();
        runs.into_iter().map(|run| run.join().expect("no panic")).collect()
    });
    let many = CROWD as f64 * of_one / began.elapsed().as_secs_f64();
    times.sort_by(f64::total_cmp);
    let slowest = times[CROWD - 1] / times[CROWD / 2];
    outln(&format!("  a turn: {many:.0} MB/s, one alone {one:.0} MB/s"));
    Round { one, many, slowest }
}
