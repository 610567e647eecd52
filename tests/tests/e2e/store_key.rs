//! Where a machine keeps its store key, and what happens when it cannot be had there any more.

use std::fs;
use std::process::{Command, Output};

use jetfrost_tests::office::PASSPHRASE;
use jetfrost_tests::programs::{Said, jetfrost, jetfrost_ends, program};
use serde_json::Value;

use crate::unlock_methods::Setup;

fn ended(output: &Output, code: i32) -> Said {
    let said = Said::of(output);
    assert_eq!(output.status.code(), Some(code), "{}{}", said.out, said.err);
    said
}

/// Which of a diagnosis's steps is in the way, and what it says.
fn in_the_way(diagnosis: &str) -> (String, String) {
    let value: Value = serde_json::from_str(diagnosis).expect("JSON");
    let steps = value["diagnosis"]["steps"].as_array().expect("steps");
    let step = steps.iter().find(|step| step["result"] == "failed").expect("something is in the way");
    (step["step"].as_str().expect("a name").into(), step["says"].as_str().expect("a sentence").into())
}

#[test]
fn a_key_sealed_for_a_machine_backs_up_there_and_on_another_machine_a_person_has_to_put_it_back() {
    let office = Setup::new(|_, _| {});
    office.join(&[]);
    let file = office.station.join("store-key");
    let before: Value = serde_json::from_slice(&fs::read(&file).expect("there")).expect("JSON");
    let said = office.run(&["unlock", "--key-in", "machine"], &[], 0);
    assert!(said.contains("The store key is sealed for this machine"), "{said}");
    let after = fs::read_to_string(&file).expect("there");
    if let Some(key) = before["key"].as_str() {
        assert!(!after.contains(key), "{after}");
    }
    let _ = office.run(&["backup"], &[], 0);
    assert!(office.run(&["status"], &[], 0).contains("sealed for this machine"));
    // A proof does not move it where nobody wanted it.
    let _ = office.run(&["unlock"], &[], 0);
    assert_eq!(fs::read_to_string(&file).expect("there"), after);

    // To another machine the same state directory says nothing.
    let elsewhere = |arguments: &str| {
        let script = format!(
            "mount -t tmpfs tmpfs /var/lib/systemd && export JETFROST_HOME={} && for what in {arguments}; do {} $what; done",
            office.station.display(),
            program("jetfrost").display()
        );
        let mut command = Command::new("unshare");
        command.args(["-m", "sh", "-c", &script]).env("JETFROST_PASSPHRASE", PASSPHRASE).env("TZ", "UTC");
        command.output().expect("unshare runs")
    };
    let said = ended(&elsewhere("backup"), 1);
    assert!(said.err.contains("no longer opens it") && said.err.contains("jetfrost unlock"), "{}", said.err);
    let (step, says) = in_the_way(&Said::of(&elsewhere("'diagnose --json'")).out);
    assert!(step == "keys" && says.contains("sealed"), "{step}: {says}");
    let said = ended(&elsewhere("unlock backup"), 0);
    assert!(said.out.contains("is in place again"), "{}", said.out);
}

/// A user's session.
pub(crate) struct Session {
    address: String,
    bus: std::process::Child,
    home: tempfile::TempDir,
}

impl Session {
    /// With a keyring.
    fn begin() -> Self {
        let session = Self::of_a_desktop();
        let begun =
            session.command("sh").args(["-c", "printf secret | gnome-keyring-daemon --unlock --components=secrets"]).output();
        ended(&begun.expect("it runs"), 0);
        session
    }

    /// With nothing but a bus.
    pub(crate) fn of_a_desktop() -> Self {
        let home = tempfile::tempdir().expect("a directory");
        let address = format!("unix:path={}", home.path().join("bus").display());
        let bus = Command::new("dbus-daemon").args(["--session", "--nofork", "--address", &address]).spawn();
        Self { address, bus: bus.expect("dbus-daemon is installed"), home }
    }

    /// A program within the session.
    pub(crate) fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        self.within(&mut command);
        command
    }

    pub(crate) fn within(&self, command: &mut Command) {
        // It is there as soon as it listens.
        while !self.home.path().join("bus").exists() {
            std::thread::yield_now();
        }
        command.env("DBUS_SESSION_BUS_ADDRESS", &self.address);
        command.env("XDG_RUNTIME_DIR", self.home.path()).env("HOME", self.home.path());
    }

    /// Its user signs out.
    fn end(self) {}
}

impl Drop for Session {
    fn drop(&mut self) {
        let _ = self.bus.kill();
        let _ = self.bus.wait();
    }
}

#[test]
fn a_key_in_a_keyring_is_there_while_its_user_is_and_leaves_with_the_workstation() {
    let office = Setup::new(|_, _| {});
    office.join(&[]);
    let session = Session::begin();
    let run = |arguments: &[&str], code| {
        let mut command = jetfrost(&office.station);
        session.within(&mut command);
        ended(&command.args(arguments).output().expect("it runs"), code)
    };
    let kept = || {
        let lookup = session.command("secret-tool").args(["search", "--all", "application", "jetfrost"]).output();
        String::from_utf8_lossy(&lookup.expect("secret-tool is installed").stdout).contains("secret = ")
    };
    let said = run(&["unlock", "--key-in", "keyring"], 0);
    assert!(said.out.contains("in this user's keyring") && kept(), "{}", said.out);
    let _ = run(&["backup"], 0);
    // Somebody who is not signed in there.
    let said = jetfrost_ends(&office.station, &["backup"], 1);
    assert!(said.err.contains("locked or no longer has it") && said.err.contains("jetfrost unlock"), "{}", said.err);
    assert_eq!(
        in_the_way(&Said::of(&jetfrost(&office.station).args(["diagnose", "--json"]).output().expect("it runs")).out).0,
        "keys"
    );

    let _ = run(&["unlock", "--key-in", "file"], 0);
    assert!(!kept(), "it is no longer where it is not wanted");
    let _ = jetfrost_ends(&office.station, &["backup"], 0);
    let _ = run(&["unlock", "--key-in", "keyring"], 0);
    let _ = run(&["leave", "--confirm", "dunlin"], 0);
    assert!(!kept());
    session.end();
}
