//! Certificates come and go; workstations know the service all the same.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use jetfrost_client::ClientError;
use jetfrost_client::join::accept_identity;
use jetfrost_service::{SteppedClock, renew_identity, show_identity};
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jiff::{Timestamp, ToSpan};

fn start() -> Timestamp {
    "2026-03-02T09:00:00Z".parse().expect("a time")
}

fn day(number: i64) -> Timestamp {
    start() + (24 * number).hours()
}

fn office() -> (Office, std::sync::Arc<SteppedClock>, Workstation) {
    let (office, clock) = Office::stepped(start());
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "one");
    station.back_up().expect("backed up");
    (office, clock, station)
}

fn known_to(station: &Workstation) -> String {
    station.home.membership().expect("joined").fingerprint
}

fn shell(place: &Path, script: &str) {
    let output = Command::new("sh").args(["-euc", script]).current_dir(place).output().expect("it runs");
    assert!(output.status.success(), "{script}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A certificate for 'localhost' that an authority of the office signs, as `brought.pem` and `brought-key.pem`.
fn bring(place: &Path, authority: &str, days: u32) {
    shell(
        place,
        &format!(
            "[ -e {authority}.pem ] || openssl req -x509 -newkey rsa:2048 -nodes -keyout {authority}-key.pem -out {authority}.pem \
             -days 3650 -subj '/CN=Office authority {authority}'\n\
             openssl req -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout brought-key.pem -out request.pem -subj /CN=localhost\n\
             printf 'subjectAltName=DNS:localhost' > names\n\
             openssl x509 -req -in request.pem -CA {authority}.pem -CAkey {authority}-key.pem -CAcreateserial -days {days} \
             -extfile names -out brought.pem"
        ),
    );
}

/// What a client that nobody here wrote says of the certificate, trusting one authority and nothing else.
fn curl_trusts(authority: &Path, name: &str, port: u16) -> bool {
    let output = Command::new("curl")
        .args(["--silent", "--show-error", "--max-time", "20", "--output", "/dev/null", "--cacert"])
        .arg(authority)
        .args(["--resolve", &format!("{name}:{port}:127.0.0.1"), &format!("https://{name}:{port}/healthz")])
        .output()
        .expect("curl is there");
    // 60: the certificate is not trusted.
    assert!([Some(0), Some(60)].contains(&output.status.code()), "{}", String::from_utf8_lossy(&output.stderr));
    output.status.success()
}

fn identity_file(office: &Office) -> PathBuf {
    let (pem, _) = show_identity(office.state(), 0).expect("an identity");
    let path = office.path("authority-of-the-service.pem");
    fs::write(&path, pem).expect("written");
    path
}

fn alerts(office: &Office) -> Vec<AlertKind> {
    let attention: Alerts = office.api.get("/alerts").expect("answered");
    attention.alerts.into_iter().map(|alert| alert.kind).collect()
}

#[test]
fn the_service_renews_its_own_certificate_and_no_workstation_notices() {
    let (office, clock, station) = office();
    let (identity, shown) = (known_to(&station), office.browser_fingerprint());
    clock.set(day(300));
    office.look_around();
    assert_eq!(office.browser_fingerprint(), shown, "it is good for a while yet");
    clock.set(day(340));
    office.look_around();
    assert_ne!(office.browser_fingerprint(), shown);
    station.back_up().expect("it is the same service");
    assert_eq!((known_to(&station), office.fingerprint()), (identity.clone(), identity));
}

#[test]
fn the_service_own_certificate_follows_its_name_and_who_trusts_its_identity_trusts_it() {
    let (mut office, _, station) = office();
    let authority = identity_file(&office);
    let port = office.port();
    assert!(curl_trusts(&authority, "localhost", port));
    assert!(!curl_trusts(&authority, "backup.office.example", port));
    office.configure(|config| config.public_name = "backup.office.example".into());
    assert!(curl_trusts(&authority, "backup.office.example", port));
    let shown = office.browser_fingerprint();
    station.back_up().expect("it is the same service");
    office.restart();
    assert_eq!(office.browser_fingerprint(), shown, "it is made once");
}

#[test]
fn a_certificate_that_was_brought_is_renewed_by_its_files_and_its_authority_may_change() {
    let (mut office, _, station) = office();
    let place = office.path("brought");
    fs::create_dir(&place).expect("made");
    bring(&place, "first", 200);
    let files = (place.join("brought.pem"), place.join("brought-key.pem"));
    office.configure(|config| config.certificate = Some(files.clone()));
    let port = office.port();
    assert!(curl_trusts(&place.join("first.pem"), "localhost", port));
    station.back_up().expect("workstations are shown the identity");
    let shown = office.browser_fingerprint();
    bring(&place, "first", 200);
    office.look_around();
    assert_ne!(office.browser_fingerprint(), shown, "without a restart");
    assert!(curl_trusts(&place.join("first.pem"), "localhost", port));
    bring(&place, "second", 200);
    office.look_around();
    assert!(
        curl_trusts(&place.join("second.pem"), "localhost", port) && !curl_trusts(&place.join("first.pem"), "localhost", port)
    );
    station.back_up().expect("it is the same service");
    station.restore_all(&office.path("back")).expect("restored");
}

#[test]
fn a_certificate_that_cannot_be_used_or_ends_soon_is_an_alert_and_stops_nothing() {
    let (mut office, clock, station) = office();
    let place = office.path("brought");
    fs::create_dir(&place).expect("made");
    // openssl dates by the machine's clock.
    clock.set(Timestamp::now());
    bring(&place, "first", 100);
    let files = (place.join("brought.pem"), place.join("brought-key.pem"));
    office.configure(|config| config.certificate = Some(files.clone()));
    let port = office.port();
    office.sign_in_again();
    assert!(!alerts(&office).contains(&AlertKind::Certificate));
    // Half of a renewal: the certificate is another's.
    let key = fs::read(&files.1).expect("read");
    bring(&place, "first", 100);
    fs::write(&files.1, &key).expect("written");
    office.look_around();
    assert!(alerts(&office).contains(&AlertKind::Certificate));
    assert!(curl_trusts(&place.join("first.pem"), "localhost", port), "the one before is shown");
    station.back_up().expect("backups go on");
    // A service that starts like this shows its own.
    office.restart();
    assert!(curl_trusts(&identity_file(&office), "localhost", port));
    station.back_up().expect("backups go on");
    bring(&place, "first", 20);
    office.look_around();
    assert!(alerts(&office).contains(&AlertKind::Certificate), "it ends within 30 days");
    bring(&place, "first", 100);
    office.look_around();
    assert!(!alerts(&office).contains(&AlertKind::Certificate));
}

#[test]
fn another_identity_is_learned_within_its_overlap_and_not_after() {
    let (mut office, clock, station) = office();
    let absent = office.workstation("whimbrel");
    let before = office.fingerprint();
    renew_identity(office.state(), true, start().as_millisecond()).expect("renewed");
    office.look_around();
    assert_ne!(office.fingerprint(), before);
    station.back_up().expect("one leads to the other");
    assert_eq!(known_to(&station), office.fingerprint(), "it is known from now on");
    assert_eq!(known_to(&absent), before);
    // A second time, long before the first is over.
    clock.set(day(200));
    renew_identity(office.state(), true, day(200).as_millisecond()).expect("renewed");
    office.look_around();
    absent.write("letter", "from an absence");
    absent.back_up().expect("two lead here");
    assert_eq!(known_to(&absent), office.fingerprint());
    // One that comes after the overlap.
    clock.set(day(601));
    office.restart();
    let error = station.back_up().expect_err("nothing leads from what it knows to the service any more");
    assert!(matches!(error, ClientError::OtherCertificate { .. }), "{error}");
    absent.back_up().expect("it knows the latest");
}

#[test]
fn nothing_leads_from_an_identity_that_was_stolen() {
    let (office, _, station) = office();
    renew_identity(office.state(), false, start().as_millisecond()).expect("renewed");
    office.look_around();
    let error = station.back_up().expect_err("it was told of no other");
    assert!(matches!(error, ClientError::OtherCertificate { .. }), "{error}");
    let invented = "ab".repeat(32);
    assert!(matches!(accept_identity(&station.home, &invented), Err(ClientError::OtherCertificate { .. })));
    accept_identity(&station.home, &office.fingerprint().to_uppercase()).expect("a person vouched for it");
    station.back_up().expect("it knows the service again");
}

#[test]
fn an_old_copy_of_the_state_directory_is_the_same_service() {
    let (mut office, clock, station) = office();
    office.stop();
    shell(office.directory.path(), "cp -a state old");
    office.start();
    clock.set(day(340));
    office.look_around();
    office.stop();
    shell(office.directory.path(), "mv state newer; mv old state");
    office.start();
    let error = station.back_up();
    assert!(!matches!(error, Err(ClientError::OtherCertificate { .. })), "{error:?}");
}

#[test]
fn workstations_of_the_version_before_know_the_service_by_what_they_pinned() {
    let (mut office, _, station) = office();
    office.stop();
    // As 0.2 made it: a certificate that it signed itself, and is shown as it is.
    shell(
        office.state(),
        "rm identity.pem serving.pem\n\
         openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout certificate-key.pem -out certificate.pem \
         -days 9000 -subj '/CN=Jetfrost on localhost'\n\
         openssl x509 -in certificate.pem -noout -fingerprint -sha256 | sed 's/.*=//; s/://g' | tr A-F a-f | tr -d '\\n' > pinned",
    );
    let pinned = fs::read_to_string(office.state().join("pinned")).expect("read");
    let path = station.home.directory().join("workstation.json");
    let text = fs::read_to_string(&path).expect("read").replace(&known_to(&station), &pinned);
    fs::write(&path, text).expect("written");
    office.start();
    station.back_up().expect("it is the same service");
    assert_eq!((known_to(&station), office.fingerprint()), (pinned.clone(), pinned));
}
