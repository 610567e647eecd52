//! Fifty workstations at once.

use std::path::Path;
use std::time::Instant;

use crate::files::noise;
use crate::office::{Office, mb, outln};

const CROWD: usize = 50;
const FILES: u32 = 4;
const MEGABYTES: u32 = 20;

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let alone = office.station("alone");
    alone.keep(&noise(scratch, "alone-files", 40, 100), false);
    let one = alone.back_up();
    let one_rate = 4000e6 / one.seconds;
    let stations: Vec<_> = (0..CROWD)
        .map(|i| {
            let station = office.station(&format!("crowd-{i}"));
            station.keep(&noise(scratch, &format!("crowd-{i}-files"), FILES, MEGABYTES), false);
            station
        })
        .collect();
    let began = Instant::now();
    let times: Vec<f64> = std::thread::scope(|scope| {
        let runs: Vec<_> = stations.iter().map(|station| scope.spawn(|| station.back_up().seconds)).collect();
        runs.into_iter().map(|run| run.join().expect("no panic")).collect()
    });
    let all = began.elapsed().as_secs_f64();
    let rate = CROWD as f64 * f64::from(FILES * MEGABYTES) * 1e6 / all;
    let mut sorted = times;
    sorted.sort_by(f64::total_cmp);
    outln(&format!(
        "50 at once     {:.0} MB/s, one alone {:.0} MB/s: {:.2} of its rate (to be at least 0.8)",
        rate / 1e6,
        one_rate / 1e6,
        rate / one_rate
    ));
    outln(&format!(
        "  slowest {:.2} times the median (to be at most 3); service {:.0} MB (to be below 250)",
        sorted[CROWD - 1] / sorted[CROWD / 2],
        mb(office.daemon.peak_memory())
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}
