//! A service with workstations for the benches, as the programs ship.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost, jetfrost_ends, peak_memory};

/// A running service with a destination, and where it keeps everything.
pub(crate) struct Office {
    pub(crate) scratch: PathBuf,
    pub(crate) daemon: Daemon,
}

impl Office {
    pub(crate) fn open(scratch: &Path) -> Self {
        let daemon = Daemon::start(&scratch.join("state"), 0);
        let office = Self { scratch: scratch.into(), daemon };
        first_sign_in(&office.daemon, &office.at("admin"));
        let shelf = office.at("shelf").display().to_string();
        let _ =
            jetfrost_ends(&office.at("admin"), &["destination", "add", "Shelf", "--for-everybody", &shelf, "--reserve", "0B"], 0);
        office
    }

    pub(crate) fn at(&self, name: &str) -> PathBuf {
        self.scratch.join(name)
    }

    /// A new workstation.
    pub(crate) fn station(&self, name: &str) -> Station {
        let admin = self.at("admin");
        let _ = jetfrost_ends(&admin, &["account", "add", name, "--no-sign-in"], 0);
        let issued = jetfrost_ends(&admin, &["enrolment", "add", name, "--json"], 0).out;
        let issued: serde_json::Value = serde_json::from_str(&issued).expect("JSON");
        let home = self.at(name);
        let _ = jetfrost_ends(&home, &["join", issued["code"].as_str().expect("a code"), "--name", name], 0);
        Station { home }
    }
}

/// A workstation.
pub(crate) struct Station {
    home: PathBuf,
}

/// What a run came to.
pub(crate) struct Ran {
    pub(crate) seconds: f64,
    pub(crate) peak: u64,
    pub(crate) out: String,
}

impl Ran {
    /// Bytes that a backup sent.
    pub(crate) fn sent(&self) -> u64 {
        let said: serde_json::Value = serde_json::from_str(&self.out).expect("JSON");
        said["points"][0]["sent"].as_u64().expect("a number")
    }
}

impl Station {
    /// A workstation that joined before.
    pub(crate) fn at(office: &Office, name: &str) -> Self {
        Self { home: office.at(name) }
    }

    /// Its id at the service.
    pub(crate) fn id(&self) -> String {
        let said: serde_json::Value =
            serde_json::from_str(&jetfrost_ends(&self.home, &["status", "--json"], 0).out).expect("JSON");
        said["id"].as_str().expect("an id").to_owned()
    }

    pub(crate) fn keep(&self, path: &Path, is_disk: bool) {
        let mut arguments = vec!["include", path.to_str().expect("text")];
        if is_disk {
            arguments.push("--disk");
        }
        let _ = jetfrost_ends(&self.home, &arguments, 0);
    }

    pub(crate) fn begin(&self, arguments: &[&str]) -> Child {
        jetfrost(&self.home).args(arguments).stdout(Stdio::piped()).spawn().expect("it runs")
    }

    /// Runs a command and watches its memory; it may end with exceptions.
    pub(crate) fn run(&self, arguments: &[&str]) -> Ran {
        let began = Instant::now();
        let child = self.begin(arguments);
        let (id, ended) = (child.id(), AtomicBool::new(false));
        std::thread::scope(|scope| {
            // Looking more often would take a part of the machine. What it says is the highest so far.
            let watching = scope.spawn(|| {
                let mut peak = 0;
                while !ended.load(Ordering::Relaxed) {
                    peak = peak.max(peak_memory(id));
                    std::thread::sleep(Duration::from_millis(20));
                }
                peak
            });
            let out = child.wait_with_output().expect("ended");
            let seconds = began.elapsed().as_secs_f64();
            ended.store(true, Ordering::Relaxed);
            assert!(matches!(out.status.code(), Some(0 | 3)), "{arguments:?} ended with {}", out.status);
            let peak = watching.join().expect("no panic");
            Ran { seconds, peak, out: String::from_utf8_lossy(&out.stdout).into_owned() }
        })
    }

    pub(crate) fn back_up(&self) -> Ran {
        self.run(&["backup", "--quiet", "--json"])
    }

    /// Seconds that a backup takes. Nobody watches it: where many run at once, watching each would take a tenth of the machine.
    pub(crate) fn back_up_unwatched(&self) -> f64 {
        let began = Instant::now();
        let ended = self.begin(&["backup", "--quiet", "--json"]).wait_with_output().expect("ended");
        let seconds = began.elapsed().as_secs_f64();
        assert_eq!(ended.status.code(), Some(0), "the backup ended with {}", ended.status);
        seconds
    }
}

/// What packs a stream with the system's own tools.
pub(crate) const PACK: &str = "zstd -1 -T2 -q | openssl enc -aes-256-ctr -pbkdf2 -pass pass:x";

/// How long a script takes.
pub(crate) fn seconds(script: &str) -> f64 {
    let began = Instant::now();
    let status = Command::new("bash").args(["-c", script]).status().expect("bash runs");
    // Files that vanish or cannot be read in a living tree are no failure of the machine.
    assert!(status.code().is_some(), "{script}");
    began.elapsed().as_secs_f64()
}

pub(crate) fn number(script: &str) -> u64 {
    let output = Command::new("bash").args(["-c", script]).output().expect("bash runs");
    String::from_utf8_lossy(&output.stdout).trim().parse().unwrap_or(0)
}

pub(crate) fn mb(bytes: u64) -> f64 {
    bytes as f64 / 1e6
}

/// The value in the middle.
pub(crate) fn middle(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// A line with both rates and their ratio.
pub(crate) fn report(what: &str, ours: f64, beside: &str, theirs: f64, bytes: u64, reach: f64) {
    let rate = |seconds: f64| bytes as f64 / seconds / 1e6;
    outln(&format!(
        "{what:<14} {ours:.2} s, {:.0} MB/s; {beside} {theirs:.2} s, {:.0} MB/s: {:.2} of its rate (to be at least {reach})",
        rate(ours),
        rate(theirs),
        theirs / ours
    ));
}

/// Prints a line at once, so that a long bench shows how far it is.
pub(crate) fn outln(line: &str) {
    println!("{line}");
}
