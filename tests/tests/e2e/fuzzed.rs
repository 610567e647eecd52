//! The API against generated input, good and bad, by a fuzzer that is not ours and reads nothing but the OpenAPI document. The
//! service runs where the system is read-only but for the test's directory.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use jetfrost_client::api::Api;
use jetfrost_client::backup::{ReadBack, back_up};
use jetfrost_client::join::{FirstWays, join};
use jetfrost_client::progress::Meter;
use jetfrost_client::state_dir::StateDir;
use jetfrost_image::crypto::SystemRandom;
use jetfrost_tests::network::Networks;
use jetfrost_tests::office::{PASSPHRASE, PASSWORD};
use jetfrost_tests::programs::{Going, program, start};
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{Destination, NewDestination};
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::people::{Account, Group, NewAccount, NewGroup, Role};
use jetfrost_wire::service::{AuditCheck, Carry, FirstAdministrator, SignIn, SignedIn};
use jetfrost_wire::workstation::PointKind;
use tempfile::TempDir;

/// A service with somebody in each role, a workstation and a point, and the credentials to reach it.
struct Fuzzed {
    directory: TempDir,
    going: Going,
    address: String,
    fingerprint: String,
    administrator: String,
    device: String,
    /// What the fuzzer may put for `{id}`, by the beginning of the path.
    ids: Vec<(&'static str, String)>,
}

fn confined(directory: &Path) -> Going {
    let script = format!(
        "mount --bind {0} {0} && mount -o remount,bind,ro / && \
         exec {1} serve --public-name localhost --listen 127.0.0.1:0 --state-directory {0}/state",
        directory.display(),
        program("jetfrostd").display()
    );
    start(Command::new("unshare").args(["-m", "sh", "-c", &script]))
}

impl Fuzzed {
    fn begin() -> Self {
        let directory = TempDir::new().expect("a directory");
        let going = confined(directory.path());
        let last = |line: String| line.split_whitespace().last().unwrap_or_default().to_owned();
        let console = last(going.line("the address", |line| line.contains("https://")));
        let address = console.trim_start_matches("https://").trim_end_matches('/').to_owned();
        let fingerprint = last(going.line("the fingerprint", |line| line.contains("SHA-256")));
        let code = last(going.line("the first code", |line| line.contains("first code")));
        let api = Api::new(&address, Some(&fingerprint)).expect("a service");
        let new = FirstAdministrator { code, login: "ingrid".into(), password: PASSWORD.into() };
        let _: Account = api.post("/first-administrator", &new).expect("made");
        let sign_in = SignIn { login: "ingrid".into(), password: PASSWORD.into(), code: None, carry: Carry::Token, label: None };
        let signed_in: SignedIn = api.post("/sessions", &sign_in).expect("signed in");
        let administrator = signed_in.token.expect("a token");
        let mut fuzzed = Self { directory, going, address, fingerprint, administrator, device: String::new(), ids: Vec::new() };
        fuzzed.fill();
        fuzzed
    }

    fn api(&self) -> Api {
        Api::new(&self.address, Some(&self.fingerprint)).expect("a service").with_credential(&self.administrator)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.directory.path().join(name)
    }

    fn fill(&mut self) {
        let api = self.api();
        let shelf = NewDestination {
            name: "Shelf".into(),
            directory: self.path("shelf").display().to_string(),
            grants: Grants::everybody(),
            reserve: Some(0),
            ..NewDestination::default()
        };
        let shelf: Destination = api.post("/destinations", &shelf).expect("a destination");
        let anna: Account = api.post("/accounts", &NewAccount::new("anna", Role::Member)).expect("an account");
        let crew = NewGroup { name: "crew".into(), default_limit: None, default_quota: None };
        let crew: Group = api.post("/groups", &crew).expect("a group");
        let issued: IssuedCode = api.post("/enrolment-codes", &NewEnrolmentCode::new("anna")).expect("a code");
        let home = StateDir::new(self.path("home"));
        let invitation = Invitation::parse(&issued.code).expect("a code");
        join(&home, &invitation, "knot", &FirstWays::passphrase(PASSPHRASE), &SystemRandom::default()).expect("joins");
        let mut selection = home.selection().expect("readable");
        fs::create_dir(self.path("files")).expect("made");
        fs::write(self.path("files/letter"), "here").expect("written");
        selection.include(&self.path("files")).expect("kept");
        home.write_selection(&selection).expect("written");
        back_up(&home, PointKind::Files, ReadBack::Sample, &std::sync::Arc::new(Meter::default())).expect("backed up");
        let membership = home.membership().expect("joined");
        let spare: IssuedCode = api.post("/enrolment-codes", &NewEnrolmentCode::new("anna")).expect("a code");
        self.device = membership.credential;
        self.ids = vec![
            ("/accounts/", anna.id.0),
            ("/groups/", crew.id.0),
            ("/destinations/", shelf.id.0),
            ("/enrolment-codes/", spare.record.id.0),
            ("/workstations/", membership.workstation),
            ("/stores/", membership.store),
        ];
    }

    /// Lets the fuzzer at it with a credential. Returns what it found, if it found anything.
    fn run(&self, credential: &str, phases: &str, paths: [&str; 2]) -> Result<(), String> {
        let operations = self.ids.iter().map(|(begins, id)| {
            format!("[[operations]]\ninclude-path-regex = \"^/api/v1{begins}\"\nparameters = {{ \"path.id\" = \"{id}\" }}\n")
        });
        fs::write(self.path("fuzzer.toml"), operations.collect::<String>()).expect("written");
        let call = Call { address: &self.address, credential, phases, paths };
        fuzz(&mut Command::new(fuzzer()), self.directory.path(), &call)
    }
}

/// What the fuzzer is to call.
struct Call<'c> {
    address: &'c str,
    credential: &'c str,
    phases: &'c str,
    paths: [&'c str; 2],
}

/// Lets the fuzzer at a service, with the settings that are in a directory. Returns what it found, if it found anything.
fn fuzz(fuzzer: &mut Command, directory: &Path, call: &Call<'_>) -> Result<(), String> {
    let output = fuzzer
        .arg("--config-file")
        .arg(directory.join("fuzzer.toml"))
        .args(["run", &format!("https://{}/api/v1/openapi.json", call.address), "--tls-verify", "false"])
        .args(["-H", &format!("Authorization: Bearer {}", call.credential), "--phases", call.phases, "-n", "8"])
        .args(["--checks", "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"])
        .args(call.paths)
        // A call that hangs is a failure.
        .args(["--request-timeout", "20", "--no-shrink", "--continue-on-failure", "--max-time", "60", "--seed", "4"])
        .args(["--warnings", "off"])
        .current_dir(directory)
        .output()
        .expect("the fuzzer is installed");
    let said = String::from_utf8_lossy(&output.stdout);
    if output.status.success() { Ok(()) } else { Err(format!("{said}{}", String::from_utf8_lossy(&output.stderr))) }
}

/// Installed by `tools/install-test-tools`.
fn fuzzer() -> PathBuf {
    let here = std::env::current_exe().expect("the test knows itself");
    let mut found = here.ancestors().map(|directory| directory.join("test-tools/bin/schemathesis"));
    found.find(|path| path.is_file()).expect("the fuzzer is installed: run tools/install-test-tools")
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn whatever_is_sent_no_call_fails_in_the_service_or_hangs_and_every_answer_is_as_documented() {
    let fuzzed = Fuzzed::begin();
    // Left out: an endless stream, what would sign the fuzzer out, the switch after which others answer with 503, and mail, which
    // must not go to hosts that a fuzzer thinks up.
    let most = ["--exclude-path-regex", "/events$|/sessions|/maintenance$|/mail"];
    let rest = ["--include-path-regex", "/maintenance$|/sessions$"];
    for (who, credential, phases, paths) in [
        ("a workstation", &fuzzed.device, "coverage", most),
        ("the administrator", &fuzzed.administrator, "coverage,fuzzing", most),
        ("the administrator, of the rest", &fuzzed.administrator, "coverage", rest),
    ] {
        if let Err(said) = fuzzed.run(credential, phases, paths) {
            panic!("as {who}: {said}");
        }
    }

    // Nothing is half there: the chain of the audit log is whole, and so are the records.
    let check: AuditCheck = fuzzed.api().get("/audit/check").expect("checked");
    assert_eq!(check.broken_at, None);
    assert!(check.entries > 20, "the fuzzer did get somewhere: {check:?}");
    fuzzed.going.terminate();
    let script = "import sqlite3,sys; d=sqlite3.connect(sys.argv[1]); \
                  print(d.execute('pragma integrity_check').fetchall(), d.execute('pragma foreign_key_check').fetchall())";
    let records = fuzzed.directory.path().join("state/records.sqlite");
    let output = Command::new("python3").args(["-c", script]).arg(records).output().expect("python3 is there");
    assert_eq!(String::from_utf8_lossy(&output.stdout).trim(), "[('ok',)] []");
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn whatever_is_said_of_mail_no_call_fails_or_hangs_on_a_host_from_which_no_mail_gets_anywhere() {
    let mut networks = Networks::new(&[]);
    let host = networks.host("alone", &[]);
    let directory = TempDir::new().expect("a directory");
    let at = |name: &str| directory.path().join(name);
    let state = at("state").display().to_string();
    let serve = ["serve", "--public-name", "localhost", "--listen", "127.0.0.1:0", "--state-directory", &state];
    let going = start(host.command(program("jetfrostd").to_str().expect("text")).args(serve));
    let last = |line: String| line.split_whitespace().last().unwrap_or_default().to_owned();
    let address = last(going.line("the address", |line| line.contains("https://"))).replace("https://", "").replace('/', "");
    let fingerprint = last(going.line("the fingerprint", |line| line.contains("SHA-256")));
    let code = last(going.line("the first code", |line| line.contains("first code")));
    let home = at("admin");
    let signed_in =
        host.jetfrost(&home, &["sign-in", &address, "--login", "ingrid", "--first", &code, "--fingerprint", &fingerprint]);
    assert!(signed_in.status.success(), "{}", String::from_utf8_lossy(&signed_in.stderr));
    let (session, _) = StateDir::new(home).session_api().expect("signed in");
    fs::write(at("fuzzer.toml"), "").expect("written");
    let call = Call {
        address: &address,
        credential: &session.token,
        phases: "coverage,fuzzing",
        paths: ["--include-path-regex", "/mail|/alerts$"],
    };
    if let Err(said) = fuzz(&mut host.command(fuzzer().to_str().expect("text")), directory.path(), &call) {
        panic!("{said}");
    }
    going.terminate();
}
