//! Bringing a tree back, beside unpacking it, by turns: each turn has its own ratio, and the middle one counts.
//!
//! Nothing is removed in between, for ext4 goes around inodes that were freed in the last minutes, and whoever comes next
//! would pay for it. And all of it has room in memory: half of the tree is taken, some two gigabytes.

use std::fs;
use std::path::{Path, PathBuf};

use crate::office::{Office, PACK, Station, middle, number, outln, seconds};

const ROUNDS: usize = 3;

pub(crate) fn run(scratch: &Path, tree: &Path) {
    let sample = scratch.join("sample");
    fs::create_dir(&sample).expect("made");
    seconds(&format!(
        "find {} -xdev -type f | LC_ALL=C sort | awk 'NR % 2' | tar --no-recursion -cf - -T - 2>/dev/null | tar -xf - -C {1} && sync -f {1}",
        tree.display(),
        sample.display()
    ));
    let files = number(&format!("find {} -type f | wc -l", sample.display()));
    let bytes =
        number(&format!("find {} -type f -printf '%s\\n' | awk '{{s+=$1}} END {{printf \"%.0f\", s}}'", sample.display()));
    outln(&format!("{files} files, {:.2} GB: every second one of {}", bytes as f64 / 1e9, tree.display()));

    let office = Office::open(scratch);
    let station = office.station("files");
    station.keep(&sample, false);
    let _ = station.back_up();
    let packed = office.at("packed");
    seconds(&format!("tar -cf - -C {} . | {PACK} > {1} && sync {1}", sample.display(), packed.display()));
    let bench = Bench { office, station, packed };
    let ratio = middle((0..ROUNDS).map(|n| bench.round(n, bytes).ratio()));
    outln(&format!("restore        {ratio:.2} of the rate of unpacking (to be at least 1.0)"));
    assert!(bench.office.daemon.terminate(), "the service stops cleanly");
}

struct Bench {
    office: Office,
    station: Station,
    packed: PathBuf,
}

/// Seconds until all is on the disk.
struct Round {
    ours: f64,
    theirs: f64,
}

impl Round {
    fn ratio(&self) -> f64 {
        self.theirs / self.ours
    }
}

impl Bench {
    /// Each of them goes first in turn.
    fn round(&self, number: usize, bytes: u64) -> Round {
        // Segments are written past the system's cache, and the packed file is not: both are read once so that both are warm.
        seconds(&format!("find {} {} -type f -print0 | xargs -0 cat > /dev/null", self.at("shelf"), self.packed.display()));
        let round = if number.is_multiple_of(2) {
            let ours = self.ours(number);
            Round { ours, theirs: self.theirs(number) }
        } else {
            let theirs = self.theirs(number);
            Round { ours: self.ours(number), theirs }
        };
        outln(&format!(
            "  a turn: {:.2} s, {:.0} MB/s; openssl enc -d | zstd -d | tar -x, sync {:.2} s, {:.0} MB/s: {:.2} of its rate",
            round.ours,
            bytes as f64 / round.ours / 1e6,
            round.theirs,
            bytes as f64 / round.theirs / 1e6,
            round.ratio()
        ));
        round
    }

    fn ours(&self, number: usize) -> f64 {
        let onto = self.at(&format!("ours-{number}"));
        self.station.run(&["restore", "--quiet", "--to", &onto]).seconds + seconds(&format!("sync -f {onto}"))
    }

    fn theirs(&self, number: usize) -> f64 {
        let onto = self.at(&format!("theirs-{number}"));
        fs::create_dir(&onto).expect("made");
        seconds(&format!(
            "set -o pipefail; openssl enc -d -aes-256-ctr -pbkdf2 -pass pass:x < {} | zstd -d -q | tar -xf - -C {onto} && sync -f {onto}",
            self.packed.display(),
        ))
    }

    fn at(&self, name: &str) -> String {
        self.office.at(name).display().to_string()
    }
}
