//! What appears on the desktop of whoever sits at the machine: on a real bus, with a stand-in for what draws it.

use std::path::Path;

use jetfrost_tests::office::{ADMINISTRATOR, Office};
use jetfrost_tests::programs::{Going, jetfrost, jetfrost_ends, start};
use jetfrost_tests::work::{Home, Incident};

use crate::store_key::Session;

/// Shows notices, and prints each.
fn desktop(session: &Session) -> Going {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let python = here.join("../target/test-tools/bin/python");
    assert!(python.exists(), "the stand-in's library is installed: run tools/install-test-tools");
    let desktop = start(session.command(python.to_str().expect("text")).arg(here.join("clients/notifications.py")));
    let _ = desktop.line("the desktop is ready", |line| line == "ready");
    desktop
}

#[test]
fn whoever_sits_at_the_machine_is_told_of_an_incident_and_of_an_order_that_waits_for_them() {
    let (office, station) = Office::with_station("knot");
    let home = station.home.directory();
    let mut folder = Home::make(&station.folder.join("home"), "told").expect("made");
    station.back_up().expect("a point");
    let session = Session::of_a_desktop();
    let desktop = desktop(&session);
    let agent = |words: &[&str]| {
        let mut command = jetfrost(home);
        session.within(command.args(words));
        start(&mut command)
    };
    let _agent = agent(&["agent", "run"]);
    folder.suffer(Incident::EncryptedAndRenamed).expect("it happens");
    station.back_up().expect("backups go on");
    let title = desktop.line("a notice", |line| line.starts_with("Jetfrost: "));
    assert_eq!(title, "Jetfrost: Recovery point 2 of this computer looks like mass encryption");
    let text = desktop.line("its text", |_| true);
    assert!(text.contains("disconnect this computer from the network") && text.contains("Earlier points are kept"), "{text}");

    let _ = jetfrost_ends(home, &["order", "policy", "ask"], 0);
    let administrator = office.path("administrator");
    let words = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&administrator, &words, 0);
    let path = station.folder.join("home/projects");
    let words = ["order", "give", "--of", "knot", path.to_str().expect("text")];
    let _ = jetfrost_ends(&administrator, &words, 0);
    let title = desktop.line("a notice", |line| line.starts_with("Jetfrost: "));
    assert_eq!(title, "Jetfrost: Somebody in the office asks to restore files on this computer");
    let text = desktop.line("its text", |_| true);
    assert!(text.contains("jetfrost order list") && !text.contains(ADMINISTRATOR), "{text}");
}
