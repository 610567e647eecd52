//! Very many small files: an unchanged run beside one walk, the client's memory, and one of them from a cold client.

use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use jetfrost_tests::programs::jetfrost;

use crate::agents::Cost;
use crate::disks::loopback_bytes;
use crate::office::{Office, mb, outln, seconds};

const IN_FOLDER: u64 = 100;

/// Runs of the agent: the first looks at everything, the others where the system told of a change.
fn by_agent(home: &Path, tree: &Path, walk: f64) {
    let mut agent = jetfrost(home).args(["agent", "run"]).stdout(Stdio::null()).spawn().expect("it runs");
    let status = || {
        let said = jetfrost(home).args(["agent", "status", "--json"]).output().expect("it ends").stdout;
        serde_json::from_slice::<serde_json::Value>(&said).unwrap_or_default()
    };
    let is_waiting = || status()["now"]["doing"] == "waiting";
    let completed = || {
        let status = status();
        (status["completed"].clone(), status["looked"].clone())
    };
    let run = || {
        let (before, cost, began) = (completed(), Cost::of(agent.id()), Instant::now());
        while !jetfrost(home).args(["agent", "start-now"]).output().expect("it ends").status.success() {}
        loop {
            std::thread::sleep(Duration::from_millis(10));
            let now = completed();
            if now != before && !now.0.is_null() {
                return (began.elapsed().as_secs_f64(), cost.seconds_since(agent.id()), now.1);
            }
        }
    };
    let _ = run();
    // After the first complete run there is a drill.
    while !is_waiting() {
        std::thread::sleep(Duration::from_millis(100));
    }
    for what in ["nothing changed", "one file changed"] {
        if what != "nothing changed" {
            fs::write(tree.join("000/000007/note-00.txt"), "another note").expect("written");
        }
        let (seconds, processor, looked) = run();
        outln(&format!(
            "  by the agent, {what}: {seconds:.2} s, {:.2} times the run above (to be at most 0.1), {:.0} ms of a processor (to be at most 100); {looked}",
            seconds / walk,
            processor * 1e3,
        ));
    }
    let _ = agent.kill().and_then(|()| agent.wait());
}

pub(crate) fn run(scratch: &Path, files: u64) {
    let tree = scratch.join("tree");
    for folder in 0..files / IN_FOLDER {
        let path = tree.join(format!("{:03}/{folder:06}", folder / 100));
        fs::create_dir_all(&path).expect("made");
        for file in 0..IN_FOLDER {
            fs::write(path.join(format!("note-{file:02}.txt")), format!("note {file} in folder {folder}\n")).expect("written");
        }
    }
    let office = Office::open(scratch);
    let station = office.station("many");
    station.keep(&tree, false);
    let first = station.back_up();
    outln(&format!(
        "{files} files     first: {:.1} s, {:.0} files a second, client {:.0} MB (to be below 250)",
        first.seconds,
        files as f64 / first.seconds,
        mb(first.peak)
    ));
    let find = format!("find {} -xdev -printf '%p %s %T@\\n' > /dev/null", tree.display());
    seconds(&find);
    // What changed within the last second before the first run is read once more.
    let _ = station.back_up();
    let walk = seconds(&find);
    let unchanged = station.back_up();
    outln(&format!(
        "  unchanged: {:.2} s, find -printf {walk:.2} s: {:.2} times the walk (to be at most 1.5), client {:.0} MB",
        unchanged.seconds,
        unchanged.seconds / walk,
        mb(unchanged.peak)
    ));
    by_agent(&office.at("many"), &tree, unchanged.seconds);
    let folder = files / IN_FOLDER / 2;
    let wanted = tree.join(format!("{:03}/{folder:06}/note-50.txt", folder / 100));
    let before = loopback_bytes();
    let back = office.at("one").display().to_string();
    let restored = station.run(&["restore", "--quiet", wanted.to_str().expect("text"), "--to", &back]);
    outln(&format!(
        "  one of them, cold client: {:.0} ms (to be under 300), {:.2} MB moved (to be under 2)",
        restored.seconds * 1e3,
        mb(loopback_bytes() - before)
    ));
    outln(&format!("  service {:.0} MB at its peak", mb(office.daemon.peak_memory())));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}
