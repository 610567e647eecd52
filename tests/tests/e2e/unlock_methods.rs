//! Passphrases, recovery key and office key, with the programs as people use them.

use std::fs;
use std::path::{Path, PathBuf};

use jetfrost_tests::programs::{Daemon, Said, first_sign_in, jetfrost, jetfrost_ends, program};
use serde_json::Value;
use tempfile::TempDir;

/// An office with a workstation that has one point.
pub(crate) struct Setup {
    test: TempDir,
    admin: PathBuf,
    pub(crate) station: PathBuf,
    _daemon: Daemon,
}

impl Setup {
    pub(crate) fn new(prepare: impl FnOnce(&Path, &Path)) -> Self {
        assert!(program("jetfrost").is_file());
        let test = tempfile::tempdir().expect("a directory");
        let (admin, station) = (test.path().join("admin"), test.path().join("station"));
        let daemon = Daemon::start(&test.path().join("state"), 0);
        first_sign_in(&daemon, &admin);
        let shelf = test.path().join("shelf");
        let _ = jetfrost_ends(
            &admin,
            &["destination", "add", "Shelf", "--for-everybody", shelf.to_str().expect("text"), "--reserve", "0B"],
            0,
        );
        let _ = jetfrost_ends(&admin, &["account", "add", "tove"], 0);
        prepare(&admin, test.path());
        Self { test, admin, station, _daemon: daemon }
    }

    pub(crate) fn join(&self, more: &[&str]) -> Said {
        let said = jetfrost_ends(&self.admin, &["--json", "enrolment", "add", "tove"], 0);
        let issued: Value = serde_json::from_str(&said.out).expect("JSON");
        let code = issued["code"].as_str().expect("a code");
        let said = jetfrost_ends(&self.station, &[&["join", code, "--name", "dunlin"], more].concat(), 0);
        let files = self.test.path().join("files");
        fs::create_dir(&files).expect("a folder");
        fs::write(files.join("letter"), "dear Aud").expect("written");
        let _ = jetfrost_ends(&self.station, &["include", files.to_str().expect("text")], 0);
        let _ = jetfrost_ends(&self.station, &["backup"], 0);
        said
    }

    /// Runs a command of the workstation with variables set.
    pub(crate) fn run(&self, arguments: &[&str], variables: &[(&str, &str)], code: i32) -> String {
        let output = jetfrost(&self.station).args(arguments).envs(variables.iter().copied()).output().expect("it runs");
        let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        assert_eq!(output.status.code(), Some(code), "{arguments:?} said:\n{said}");
        said
    }

    fn kinds(&self) -> Vec<String> {
        let said = jetfrost_ends(&self.station, &["--json", "unlock-method", "list"], 0);
        let ways: Value = serde_json::from_str(&said.out).expect("JSON");
        let mut kinds: Vec<String> =
            ways.as_array().expect("a list").iter().map(|w| w["kind"].as_str().expect("a kind").into()).collect();
        kinds.sort_unstable();
        kinds
    }

    fn restores(&self, into: &str) {
        let into = self.test.path().join(into);
        let _ = jetfrost_ends(&self.station, &["restore", "--to", into.to_str().expect("text")], 0);
        let restored = into.join(self.test.path().join("files/letter").strip_prefix("/").expect("absolute"));
        assert_eq!(fs::read_to_string(restored).expect("restored"), "dear Aud");
    }
}

fn key_in(said: &str) -> String {
    let after = said.split("shown this once:").nth(1).expect("a recovery key is shown");
    after.split_whitespace().next().expect("a recovery key").to_owned()
}

#[test]
fn a_passphrase_is_changed_without_writing_data_again_and_the_old_one_ends() {
    let office = Setup::new(|_, _| {});
    office.join(&[]);
    let new = [("JETFROST_NEW_PASSPHRASE", "a changed passphrase")];
    let wrong = [("JETFROST_PASSPHRASE", "not the passphrase"), new[0]];
    let _ = office.run(&["unlock-method", "change-passphrase"], &wrong, 4);
    let short = [("JETFROST_NEW_PASSPHRASE", "short")];
    let _ = office.run(&["unlock-method", "change-passphrase"], &short, 1);
    assert_eq!(office.kinds(), ["passphrase", "recovery_key"]);

    // Without the person's password the new one is there and the old one stays, and both is said.
    let said = office.run(&["unlock-method", "change-passphrase"], &[new[0], ("JETFROST_PASSWORD", "not the password")], 4);
    assert!(said.contains("still unlocks the image store") && said.contains("unlock-method remove"), "{said}");
    assert_eq!(office.kinds(), ["passphrase", "passphrase", "recovery_key"]);

    let said = office.run(&["unlock-method", "change-passphrase"], &[("JETFROST_NEW_PASSPHRASE", "the third passphrase")], 0);
    assert!(said.contains("The old passphrase no longer unlocks it"), "{said}");
    let _ = office.run(&["unlock"], &[], 4);
    let _ = office.run(&["unlock"], &[("JETFROST_PASSPHRASE", "a changed passphrase")], 0);
    let _ = office.run(&["unlock"], &[("JETFROST_PASSPHRASE", "the third passphrase")], 0);
    office.restores("after");
}

#[test]
fn several_passphrases_and_a_new_recovery_key_but_never_no_way_in() {
    let office = Setup::new(|_, _| {});
    let first = key_in(&office.join(&[]).out);
    let label = ["unlock-method", "add-passphrase", "--label", "for Aud"];
    let _ = office.run(&label, &[("JETFROST_NEW_PASSPHRASE", "a second passphrase")], 0);
    let _ = office.run(&["unlock"], &[("JETFROST_PASSPHRASE", "a second passphrase")], 0);
    let _ = office.run(&["unlock"], &[], 0);
    let said = office.run(&["unlock-method", "list"], &[], 0);
    assert!(said.contains("for Aud") && said.contains("recovery key"), "{said}");

    let second = key_in(&office.run(&["unlock-method", "renew-recovery-key"], &[], 0));
    let _ = office.run(&["unlock", "--recovery-key"], &[("JETFROST_RECOVERY_KEY", &second)], 0);
    let _ = office.run(&["unlock", "--recovery-key"], &[("JETFROST_RECOVERY_KEY", &first)], 4);

    let said = jetfrost_ends(&office.station, &["--json", "unlock-method", "list"], 0);
    let ways: Value = serde_json::from_str(&said.out).expect("JSON");
    let ids: Vec<&str> = ways.as_array().expect("a list").iter().map(|w| w["id"].as_str().expect("an id")).collect();
    assert_eq!(ids.len(), 3);
    let _ = office.run(&["unlock-method", "remove", ids[0]], &[], 0);
    // The administrator may, too, but neither the last one.
    let _ = jetfrost_ends(&office.admin, &["store", "remove-unlock-method", "dunlin", ids[1]], 0);
    let said = office.run(&["unlock-method", "remove", ids[2]], &[], 1);
    assert!(said.contains("last passphrase or recovery key"), "{said}");
    office.restores("after");
}

#[test]
fn the_office_key_opens_what_was_entrusted_and_nothing_else() {
    let office = Setup::new(|_, _| {});
    let joined = office.join(&[]);
    assert!(joined.out.contains("the office included"), "{}", joined.out);
    let file = office.test.path().join("office.key");
    let path = file.to_str().expect("text");
    let run = |home: &Path, arguments: &[&str]| {
        let mut command = jetfrost(home);
        command.env("JETFROST_OFFICE_PASSPHRASE", "in the blue safe").args(arguments);
        Said::of(&command.output().expect("it runs"))
    };
    let said = run(&office.admin, &["escrow", "start", path]);
    let mark = said
        .out
        .split("its fingerprint is ")
        .nth(1)
        .expect("a fingerprint")
        .trim_end_matches('.')
        .lines()
        .next()
        .expect("a line");
    let mark = mark.trim_end_matches('.').to_owned();
    assert!(run(&office.admin, &["escrow", "start", path]).err.contains("cannot be made"), "a key is never written over");

    // Not entrusted yet: the office key opens nothing.
    let _ = office.run(&["unlock", "--office-key", path], &[("JETFROST_OFFICE_PASSPHRASE", "in the blue safe")], 4);
    let said = office.run(&["unlock-method", "trust-office-key", "--fingerprint", "0000-0000-0000-0000"], &[], 1);
    assert!(said.contains(&mark) && said.contains("not trusted"), "another fingerprint is not agreed to: {said}");
    let said = office.run(&["unlock-method", "trust-office-key"], &[], 1);
    assert!(said.contains("can read the backups"), "without a terminal nobody agrees: {said}");
    let _ = office.run(&["unlock-method", "trust-office-key", "--fingerprint", &mark], &[], 0);
    assert_eq!(office.kinds(), ["office_key", "passphrase", "recovery_key"]);
    let shown = jetfrost_ends(&office.admin, &["workstation", "show", "dunlin"], 0);
    assert!(shown.out.contains("office key"), "the administrator sees it: {}", shown.out);

    // The laptop's key is lost, and so are passphrase and recovery key.
    fs::remove_file(office.station.join("store-key")).expect("lost");
    let _ = office.run(&["unlock", "--office-key", path], &[("JETFROST_OFFICE_PASSPHRASE", "in the red safe")], 4);
    let said = office.run(&["unlock", "--office-key", path], &[("JETFROST_OFFICE_PASSPHRASE", "in the blue safe")], 0);
    assert!(said.contains("is in place again"), "{said}");
    office.restores("by-escrow");
    let _ = jetfrost_ends(&office.admin, &["escrow", "end"], 0);
    let said = jetfrost_ends(&office.admin, &["escrow", "show"], 0);
    assert!(said.out.contains("asks for no office key"), "{}", said.out);
}

#[test]
fn who_joins_an_office_with_an_office_key_is_told() {
    let office = Setup::new(|admin, test| {
        let file = test.join("office.key");
        let mut command = jetfrost(admin);
        command.env("JETFROST_OFFICE_PASSPHRASE", "in the blue safe").args(["escrow", "start", file.to_str().expect("text")]);
        assert!(command.output().expect("it runs").status.success());
    });
    let said = office.join(&[]);
    assert!(said.err.contains("This office has an office key"), "{}", said.err);
    assert_eq!(office.kinds(), ["passphrase", "recovery_key"], "nobody agreed");
}

/// The service says that a machine may go without: one that has a passphrase encrypts all the same.
#[test]
fn what_is_encrypted_is_decided_on_the_workstation() {
    let office = Setup::new(|admin, _| {
        let _ = jetfrost_ends(admin, &["destination", "set", "Shelf", "--encryption", "optional"], 0);
    });
    let said = jetfrost_ends(&office.admin, &["--json", "enrolment", "add", "tove", "--without-encryption"], 0);
    let issued: Value = serde_json::from_str(&said.out).expect("JSON");
    let code = issued["code"].as_str().expect("a code");
    let said = office.run(&["join", code, "--name", "dunlin"], &[], 0);
    assert!(said.contains("shown this once") && said.contains("--without-encryption"), "{said}");
    assert_eq!(office.kinds(), ["passphrase", "recovery_key"]);
}
