//! Networks of the tests' own: hosts that are network namespaces, with cables between them. Needs root; nothing of it touches
//! the machine's own network, and all of it goes with the test.

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};

use crate::programs::program;

/// Networks and the hosts on them.
pub struct Networks {
    /// Begins the names of all namespaces of this test.
    prefix: String,
    namespaces: Vec<String>,
}

impl Networks {
    /// Networks that are not connected with anything: each a switch of its own.
    #[must_use]
    pub fn new(names: &[&str]) -> Self {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let prefix = format!("jf{}x{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed));
        let mut networks = Self { prefix, namespaces: Vec::new() };
        networks.add_namespace("wires");
        for name in names {
            networks.ip_in("wires", &format!("link add {name} type bridge"));
            networks.ip_in("wires", &format!("link set {name} up"));
        }
        networks
    }

    /// A host with an interface on each of some networks: `(network, address/bits)`; without an address it has the one that the link
    /// gives it (RFC 4862). The interfaces are `eth0`, `eth1` …
    pub fn host(&mut self, name: &str, on: &[(&str, &str)]) -> Host {
        self.add_namespace(name);
        let wires = format!("{}-wires", self.prefix);
        let space = format!("{}-{name}", self.prefix);
        for (i, (network, address)) in on.iter().enumerate() {
            ip(&format!("-n {wires} link add {name}{i} type veth peer name eth{i} netns {space}"));
            ip(&format!("-n {wires} link set {name}{i} master {network} up"));
            if !address.is_empty() {
                ip(&format!("-n {space} address add {address} dev eth{i}"));
            }
            ip(&format!("-n {space} link set eth{i} up"));
        }
        Host { space }
    }

    fn add_namespace(&mut self, name: &str) {
        let space = format!("{}-{name}", self.prefix);
        ip(&format!("netns add {space}"));
        ip(&format!("-n {space} link set lo up"));
        self.namespaces.push(space);
    }

    fn ip_in(&self, name: &str, words: &str) {
        ip(&format!("-n {}-{name} {words}", self.prefix));
    }
}

impl Drop for Networks {
    fn drop(&mut self) {
        for space in &self.namespaces {
            let _ = Command::new("ip").args(["netns", "delete", space]).output();
            let _ = std::fs::remove_dir_all(format!("/etc/netns/{space}"));
        }
    }
}

fn ip(words: &str) {
    let output = Command::new("ip").args(words.split_whitespace()).output().expect("iproute2 is installed");
    assert!(output.status.success(), "ip {words}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A host of a network.
#[derive(Debug, Clone)]
pub struct Host {
    space: String,
}

impl Host {
    /// Sends what is for other networks to a router.
    pub fn route_by(&self, router: &str) {
        ip(&format!("-n {} route add default via {router}", self.space));
    }

    /// Passes on what is for others.
    pub fn forward(&self) {
        let output = self.command("sysctl").args(["-q", "-w", "net.ipv4.ip_forward=1"]).output().expect("runs");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    /// Asks this name server, and looks names up in this domain.
    pub fn resolve_by(&self, server: &str, domain: &str) {
        let directory = PathBuf::from(format!("/etc/netns/{}", self.space));
        std::fs::create_dir_all(&directory).expect("made");
        std::fs::write(directory.join("resolv.conf"), format!("nameserver {server}\nsearch {domain}\n")).expect("written");
    }

    /// A command on this host.
    #[must_use]
    pub fn command(&self, name: &str) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.space, name]).stdin(Stdio::null());
        command
    }

    /// `jetfrost` on this host, as JSON.
    #[must_use]
    pub fn jetfrost(&self, home: &Path, words: &[&str]) -> Output {
        let mut command = self.command(program("jetfrost").to_str().expect("text"));
        command.env("JETFROST_HOME", home).env("JETFROST_PASSWORD", crate::office::PASSWORD);
        command.env("JETFROST_PASSPHRASE", crate::office::PASSPHRASE).arg("--json").args(words).output().expect("runs")
    }
}
