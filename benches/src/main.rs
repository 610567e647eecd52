//! Ratios against what the machine itself can do, measured in the same run: `jetfrost-bench [TREE]`; `jetfrost-bench store`
//! measures a store of a million chunks alone.
//!
//! Each work is done by the programs as they ship, over TLS on loopback, and by plain system tools; both read the same
//! files, warm. The figures and what they mean are in `docs/performance.md`.
#![expect(clippy::print_stdout, reason = "this program's output is its purpose")]

mod store;

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Instant;

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost, jetfrost_ends, peak_memory};

/// A tree that every machine which builds this has.
const USUAL_TREE: &str = "/usr/lib";

fn main() {
    if std::env::args().nth(1).as_deref() == Some("store") {
        let scratch = tempfile::tempdir_in("target").expect("a scratch directory under target/");
        return store::run(scratch.path());
    }
    let tree = std::env::args_os().nth(1).map_or_else(|| PathBuf::from(USUAL_TREE), PathBuf::from);
    let scratch = tempfile::tempdir_in("target").expect("a scratch directory under target/");
    let bench = Bench { scratch: scratch.path().canonicalize().expect("it is there"), tree };
    bench.run();
}

struct Bench {
    scratch: PathBuf,
    tree: PathBuf,
}

impl Bench {
    fn run(&self) {
        let sources = self.prepare();
        let files = shell_number(&format!("find {sources} -xdev -type f | wc -l"));
        let bytes =
            shell_number(&format!("find {sources} -xdev -type f -printf '%s\\n' | awk '{{s+=$1}} END {{printf \"%.0f\", s}}'"));
        println!("{files} files, {:.2} GB: {sources}\n", bytes as f64 / 1e9);
        // Everything is read once so that all that follows finds it warm.
        seconds(&format!("find {sources} -xdev -type f -print0 | xargs -0 cat > /dev/null"));

        let daemon = self.office();
        let read = seconds(&format!("find {sources} -xdev -type f -print0 | xargs -0 cat > /dev/null"));
        let packed = self.at("packed").display().to_string();
        let pipeline = seconds(&format!(
            "set -o pipefail; tar --one-file-system -cf - {sources} 2>/dev/null | zstd -1 -T2 -q | openssl enc -aes-256-ctr -pbkdf2 -pass pass:x > {packed} && sync {packed}"
        ));
        let (first, client_peak) = self.backup();
        report("first backup", first, "tar | zstd -1 -T2 | openssl enc, fsync", pipeline, bytes, 0.8);
        println!("  beside it: reading the files alone took {read:.2} s");

        let walk = seconds(&format!("find {sources} -xdev -printf '%p %s %T@\\n' > /dev/null"));
        let (unchanged, _) = self.backup();
        println!(
            "unchanged run  {unchanged:.2} s, find -printf {walk:.2} s: {:.2} times the walk (to be at most 3)",
            unchanged / walk
        );

        let (ours, theirs) = (self.at("ours"), self.at("theirs"));
        fs::create_dir(&theirs).expect("made");
        let unpack = seconds(&format!(
            "set -o pipefail; openssl enc -d -aes-256-ctr -pbkdf2 -pass pass:x < {packed} | zstd -d -q | tar -xf - -C {} && sync -f {}",
            theirs.display(),
            theirs.display()
        ));
        fs::remove_dir_all(&theirs).expect("removed");
        let began = Instant::now();
        let _ = jetfrost_ends(&self.at("station"), &["restore", "--quiet", "--to", ours.to_str().expect("text")], 0);
        seconds(&format!("sync -f {}", ours.display()));
        let restore = began.elapsed().as_secs_f64();
        report("restore", restore, "openssl enc -d | zstd -d | tar -x, sync", unpack, bytes, 0.6);
        let mb = |bytes: u64| bytes as f64 / 1e6;
        println!(
            "memory         client {:.0} MB, service {:.0} MB at their peaks (to be below 300)",
            mb(client_peak),
            mb(daemon.peak_memory())
        );
        assert!(daemon.terminate(), "the service stops cleanly");
        store::scrub(&self.at("shelf"));
        store::run(&self.scratch);
    }

    fn at(&self, name: &str) -> PathBuf {
        self.scratch.join(name)
    }

    /// The tree, and generated files that do not compress beside it.
    fn prepare(&self) -> String {
        let generated = self.at("generated");
        fs::create_dir(&generated).expect("made");
        for i in 0..8 {
            seconds(&format!("head -c 25000000 /dev/urandom > {}/photo-{i}", generated.display()));
        }
        format!("{} {}", self.tree.display(), generated.display())
    }

    fn office(&self) -> Daemon {
        let daemon = Daemon::start(&self.at("state"), 0);
        let admin = self.at("admin");
        first_sign_in(&daemon, &admin);
        let shelf = self.at("shelf");
        let _ = jetfrost_ends(&admin, &["destination", "add", "Shelf", shelf.to_str().expect("text"), "--reserve", "0B"], 0);
        let _ = jetfrost_ends(&admin, &["account", "add", "bench", "--no-sign-in"], 0);
        let issued = jetfrost_ends(&admin, &["enrolment", "add", "bench", "--json"], 0).out;
        let issued: serde_json::Value = serde_json::from_str(&issued).expect("JSON");
        let station = self.at("station");
        let _ = jetfrost_ends(&station, &["join", issued["code"].as_str().expect("a code")], 0);
        for folder in [&self.tree, &self.at("generated")] {
            let _ = jetfrost_ends(&station, &["keep", folder.to_str().expect("text")], 0);
        }
        daemon
    }

    /// Seconds and peak memory of one backup.
    fn backup(&self) -> (f64, u64) {
        let began = Instant::now();
        let mut command = jetfrost(&self.at("station"));
        let mut child = command.args(["backup", "--quiet"]).stdout(Stdio::null()).spawn().expect("it runs");
        let mut peak = 0;
        let status = loop {
            match child.try_wait().expect("waited") {
                Some(status) => break status,
                None => {
                    peak = peak.max(peak_memory(child.id()));
                    std::thread::sleep(std::time::Duration::from_millis(5));
                }
            }
        };
        assert!(matches!(status.code(), Some(0 | 3)), "the backup ended with {status}");
        (began.elapsed().as_secs_f64(), peak)
    }
}

fn report(what: &str, ours: f64, beside: &str, theirs: f64, bytes: u64, reach: f64) {
    let rate = |seconds: f64| bytes as f64 / seconds / 1e6;
    println!(
        "{what:<14} {ours:.2} s, {:.0} MB/s; {beside} {theirs:.2} s, {:.0} MB/s: {:.2} of its rate (to be at least {reach})",
        rate(ours),
        rate(theirs),
        theirs / ours
    );
}

/// How long a script takes.
fn seconds(script: &str) -> f64 {
    let began = Instant::now();
    let status = Command::new("bash").args(["-c", script]).status().expect("bash runs");
    // Files that vanish or cannot be read in a living tree are no failure of the machine.
    assert!(status.code().is_some(), "{script}");
    began.elapsed().as_secs_f64()
}

fn shell_number(script: &str) -> u64 {
    let output = Command::new("bash").args(["-c", script]).output().expect("bash runs");
    String::from_utf8_lossy(&output.stdout).trim().parse().unwrap_or(0)
}
