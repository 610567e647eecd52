//! What agents cost while nothing happens: 300 of them connected to the service, and one on its machine.

use std::path::Path;
use std::time::Duration;

use jetfrost_client::state_dir::StateDir;
use jetfrost_tests::programs::jetfrost;

use crate::office::{Office, mb, outln};
use crate::watching::{enrolled, listen};

/// How long nothing happens.
const IDLE: Duration = Duration::from_secs(60);

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let (_, api) = StateDir::new(office.at("admin")).session_api().expect("signed in");
    let homes = enrolled(&office, &api);
    let credentials: Vec<String> = homes.iter().map(|home| home.membership().expect("joined").credential).collect();
    let before = Cost::of(office.daemon.process());
    let all: Vec<&str> = credentials.iter().map(String::as_str).collect();
    let mut listening = listen(&office, &all);
    // Paused, so that it has nothing to do either.
    let home = homes.first().expect("some joined");
    let mut agent = jetfrost(home.directory()).args(["agent", "run"]).spawn().expect("it runs");
    while !jetfrost(home.directory()).args(["agent", "pause", "--until", "24h"]).output().expect("it ends").status.success() {
        std::thread::sleep(Duration::from_millis(100));
    }
    let (service, alone) = (Cost::of(office.daemon.process()), Cost::of(agent.id()));
    std::thread::sleep(IDLE);
    let (service_after, alone_after) = (Cost::of(office.daemon.process()), Cost::of(agent.id()));
    let share = |from: &Cost, to: &Cost| (to.seconds - from.seconds) * 100.0 / IDLE.as_secs_f64();
    outln(&format!(
        "{} agents connected: service {:.0} MB, {:.0} MB of them for the connections (to be below 100); {:.2} % of a core (to be below 1)",
        credentials.len(),
        mb(service_after.resident),
        mb(service_after.resident.saturating_sub(before.resident)),
        share(&service, &service_after),
    ));
    outln(&format!(
        "an agent that waits: {:.1} MB (to be below 15), {:.1} MB of them its own, the rest the program's file; {:.2} % of a core",
        mb(alone_after.resident),
        mb(alone_after.own),
        share(&alone, &alone_after)
    ));
    let _ = agent.kill().and_then(|()| agent.wait());
    listening.iter_mut().for_each(|curl| drop(curl.kill().and_then(|()| curl.wait())));
}

/// What a process costs.
pub(crate) struct Cost {
    /// Memory that it has now, in bytes.
    resident: u64,
    /// That part of it that is no other process's: not pages of a file.
    own: u64,
    /// Processor time so far.
    seconds: f64,
}

impl Cost {
    /// Processor time since then.
    pub(crate) fn seconds_since(&self, process: u32) -> f64 {
        Self::of(process).seconds - self.seconds
    }

    pub(crate) fn of(process: u32) -> Self {
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).expect("it runs");
        let bytes = |name: &str| {
            let line = status.lines().find_map(|line| line.strip_prefix(name)?.split_whitespace().next()?.parse::<u64>().ok());
            line.unwrap_or_default() * 1024
        };
        let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).expect("it runs");
        // proc_pid_stat(5): fields 14 and 15, behind the name in parentheses, in hundredths of a second.
        let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or_default().split(' ').collect();
        let ticks: f64 = fields[11..13].iter().filter_map(|field| field.parse::<f64>().ok()).sum();
        Self { resident: bytes("VmRSS:"), own: bytes("RssAnon:"), seconds: ticks / 100.0 }
    }
}
