//! The service against validators, clients and servers that nobody here wrote; tools/install-test-tools brings them.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use jetfrost_tests::office::{Office, PASSWORD, mail_to_port};
use jetfrost_tests::programs::start;
use jetfrost_wire::alerts::MailState;

fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("the workspace").to_owned()
}

fn tool(name: &str) -> PathBuf {
    let tool = repository().join("target/test-tools/bin").join(name);
    assert!(tool.exists(), "{} is missing: run tools/install-test-tools", tool.display());
    tool
}

fn script(name: &str) -> PathBuf {
    repository().join("tests/clients").join(name)
}

fn run(command: &mut Command) -> String {
    let output = command.output().expect("it runs");
    let [out, err] = [&output.stdout, &output.stderr].map(|bytes| String::from_utf8_lossy(bytes).into_owned());
    assert!(output.status.success(), "{command:?}:\n{out}{err}");
    format!("{out}{err}")
}

#[test]
fn the_document_is_valid_and_a_client_that_is_generated_from_it_works() {
    let office = Office::open();
    let document = office.path("openapi.json");
    std::fs::write(&document, jetfrost_service::openapi_json()).expect("written");
    run(Command::new(tool("openapi-spec-validator")).arg(&document));
    let said = run(Command::new(tool("openapi-python-client"))
        .args(["generate", "--meta", "none", "--output-path"])
        .arg(office.path("client"))
        .arg("--path")
        .arg(&document)
        .current_dir(office.directory.path()));
    assert!(!said.contains("WARNING"), "all of it is understood: {said}");
    let said = run(Command::new(tool("python"))
        .arg(script("ten_calls.py"))
        .args([office.address(), PASSWORD.into()])
        .arg(office.path("shelf"))
        .env("PYTHONPATH", office.directory.path()));
    assert_eq!(said.lines().last(), Some("done"), "{said}");
}

/// The figures, as a monitoring system reads them.
fn figures(office: &Office) -> Vec<String> {
    let text = run(Command::new("curl").args(["--silent", "--insecure"]).arg(format!("https://{}/metrics", office.address())));
    let mut reading = Command::new(tool("python"))
        .arg(script("figures.py"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("it runs");
    reading.stdin.take().expect("piped").write_all(text.as_bytes()).expect("written");
    let output = reading.wait_with_output().expect("it ends");
    assert!(output.status.success(), "{text}");
    String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect()
}

#[test]
fn figures_are_open_metrics_and_none_is_made_up() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let has = |figures: &[String], beginning: &str| figures.iter().any(|line| line.starts_with(beginning));
    let before = figures(&office);
    for expected in [
        "jetfrost_workstations state=current 1",
        "jetfrost_workstations state=retired 0",
        "jetfrost_workstations state=unclaimed 0",
        "jetfrost_destinations state=ready 1",
        "jetfrost_destinations state=missing 0",
        "jetfrost_certificate_expiry_timestamp_seconds ",
        "jetfrost_workstations_without_drill  1",
    ] {
        assert!(has(&before, expected), "{expected}: {before:#?}");
    }
    let room = format!("jetfrost_destination_room_bytes destination={} ", shelf.id);
    assert!(has(&before, &room), "{before:#?}");
    assert!(!has(&before, "jetfrost_drill_oldest"), "there was no drill: {before:#?}");
    std::fs::rename(office.path("shelf"), office.path("elsewhere")).expect("moved away");
    let missing = figures(&office);
    assert!(has(&missing, "jetfrost_destinations state=missing 1"), "{missing:#?}");
    assert!(!has(&missing, "jetfrost_destination_room_bytes"), "nobody knows its room: {missing:#?}");
}

#[test]
fn a_mail_server_that_keeps_to_the_standards_reads_every_message_without_a_fault() {
    let office = Office::open();
    let server = start(Command::new(tool("python")).arg(script("mail_server.py")));
    let port = server.line("its port", |line| line.starts_with("port "));
    let port = port.split(' ').nth(1).and_then(|port| port.parse().ok()).expect("a port");
    let _: MailState = office.put("/mail", &mail_to_port(port)).expect("set");
    let tried: MailState = office.api.post("/mail/test", &()).expect("it says how it went");
    assert_eq!(tried.trouble, None);
    for expected in [
        "ehlo localhost",
        "to ingrid@office.example",
        "MIME-Version 1.0",
        "Auto-Submitted auto-generated",
        "Content-Type text/plain",
        "Message-ID <",
        "Date ",
        "Subject Mail from the backup service gets here",
    ] {
        let _ = server.line(expected, |line| line.starts_with(expected));
    }
}
