//! Mail: told once when something needs attention, once when it is over, and nothing in between; by a stand-in for a mail server.

use std::fs;
use std::sync::Arc;

use jetfrost_client::ClientError;
use jetfrost_client::api::Method;
use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_service::SteppedClock;
use jetfrost_tests::office::{Office, Workstation, mail_to};
use jetfrost_wire::alerts::{MailSecurity, MailSettings, MailState, SetMail};
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::service::AuditEntry;
use jiff::Timestamp;

fn at(text: &str) -> Timestamp {
    text.parse().expect("a time")
}

fn post_office(office: &Office, credentials: Option<&str>) -> MailStandIn {
    MailStandIn::start(([127, 0, 0, 1], 0).into(), &office.path("mail"), credentials.map(str::to_owned)).expect("it listens")
}

/// An office with one workstation that has just been backed up.
fn office_with_a_point(now: &str) -> (Office, Arc<SteppedClock>, Workstation) {
    let (office, clock) = Office::stepped(at(now));
    office.destination("Shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    (office, clock, station)
}

/// The subjects of what was sent.
fn subjects(post_office: &MailStandIn) -> Vec<String> {
    let subject = |message: String| message.lines().find_map(|line| line.strip_prefix("Subject: ").map(str::to_owned));
    post_office.messages().into_iter().filter_map(subject).collect()
}

#[test]
fn what_needs_attention_is_told_once_and_once_more_when_it_is_over() {
    let (office, clock, station) = office_with_a_point("2026-10-01T10:00:00Z");
    let post_office = post_office(&office, None);
    let _: MailState = office.put("/mail", &mail_to(&post_office)).expect("set");
    office.tend();
    assert_eq!(subjects(&post_office), [""; 0], "there is nothing to tell");
    clock.set(at("2026-10-06T10:00:00Z"));
    office.tend();
    office.tend();
    assert_eq!(subjects(&post_office), ["The last complete point of 'knot' is too old."]);
    let message = &post_office.messages()[0];
    assert!(message.contains("jetfrost workstation show knot") && message.contains("https://localhost"), "{message}");
    assert!(message.contains("To: ingrid@office.example") && message.contains("Date: Tue, 06 Oct 2026 10:00:00"), "{message}");
    fs::rename(office.path("Shelf"), office.path("elsewhere")).expect("moved away");
    office.tend();
    assert_eq!(subjects(&post_office)[1], "The destination 'Shelf' is missing.");
    fs::rename(office.path("elsewhere"), office.path("Shelf")).expect("moved back");
    station.back_up().expect("backed up");
    office.tend();
    office.tend();
    assert_eq!(subjects(&post_office)[2..], ["What needed attention is over"]);
    assert_eq!(fs::read_dir(office.path("mail")).expect("readable").count(), 3, "each is a file");
}

#[test]
fn a_message_that_is_not_taken_is_tried_again_and_said_to_be_in_trouble_meanwhile() {
    let (office, clock, _) = office_with_a_point("2026-10-01T10:00:00Z");
    clock.set(at("2026-10-06T10:00:00Z"));
    let mut post = post_office(&office, None);
    let set = mail_to(&post);
    let _: MailState = office.put("/mail", &set).expect("set");
    drop(post);
    office.tend();
    let state: MailState = office.api.get("/mail").expect("shown");
    assert_eq!((state.delivered, state.trouble_since), (None, Some(at("2026-10-06T10:00:00Z"))));
    let tried: MailState = office.api.post("/mail/test", &()).expect("it says how it went");
    assert!(tried.trouble.is_some_and(|said| said.to_lowercase().contains("refused")), "the network's own word");
    let address = ([127, 0, 0, 1], set.settings.port).into();
    post = MailStandIn::start(address, &office.path("mail"), None).expect("it listens again");
    office.tend();
    assert_eq!(subjects(&post), ["The last complete point of 'knot' is too old."]);
    let state: MailState = office.api.get("/mail").expect("shown");
    assert!(state.trouble.is_none() && state.delivered.is_some());
}

#[test]
fn a_recipient_who_is_refused_is_named_and_silences_nobody() {
    let (office, clock, _) = office_with_a_point("2026-10-01T10:00:00Z");
    let post_office = post_office(&office, None);
    let mut set = mail_to(&post_office);
    set.settings.recipients = ["nobody@office.example", "ingrid@office.example", "tove@office.example"].map(Into::into).into();
    let _: MailState = office.put("/mail", &set).expect("set");
    clock.set(at("2026-10-06T10:00:00Z"));
    office.tend();
    office.tend();
    assert_eq!(post_office.messages().len(), 2, "one each for those who are there, and not again");
    let state: MailState = office.api.get("/mail").expect("shown");
    let trouble = state.trouble.expect("told");
    assert!(trouble.contains("nobody@office.example: ") && trouble.contains("no such mailbox"), "{trouble}");
    assert!(!trouble.contains("tove") && state.delivered.is_some(), "{trouble}");
    let message = &post_office.messages()[0];
    for header in ["MIME-Version: 1.0", "Auto-Submitted: auto-generated", "Received: from localhost "] {
        assert!(message.lines().any(|line| line.starts_with(header)), "{header} in {message}");
    }
}

#[test]
fn the_summary_comes_once_a_day_at_its_hour() {
    let (office, clock, _) = office_with_a_point("2026-10-01T05:00:00Z");
    let post_office = post_office(&office, None);
    let mut set = mail_to(&post_office);
    set.settings.summary_hour = Some(7);
    let _: MailState = office.put("/mail", &set).expect("set");
    for hour in ["2026-10-01T06:59:00Z", "2026-10-01T07:00:00Z", "2026-10-01T09:00:00Z", "2026-10-02T08:00:00Z"] {
        clock.set(at(hour));
        office.tend();
    }
    let expected = "Backups: 1 current, 0 overdue, 0 without a first point";
    assert_eq!(subjects(&post_office), [expected, expected]);
    assert!(post_office.messages()[0].contains("Nothing needs attention.") && post_office.messages()[0].contains("Shelf: "));
}

#[test]
fn the_password_for_the_mail_server_is_kept_used_and_never_shown_and_does_not_follow_to_another_server() {
    let office = Office::open();
    // backups, and a password: \0backups\0low tide
    let post_office = post_office(&office, Some("AGJhY2t1cHMAbG93IHRpZGU="));
    let SetMail { settings, .. } = mail_to(&post_office);
    let with = |login: Option<&str>, password: Option<&str>, server: &str| {
        let settings = MailSettings { login: login.map(str::to_owned), server: server.into(), ..settings.clone() };
        office.put::<_, MailState>("/mail", &SetMail { settings, password: password.map(str::to_owned) }).expect("set")
    };
    let tried = || office.api.post::<_, MailState>("/mail/test", &()).expect("it says how it went");
    with(Some("backups"), Some("high tide"), "127.0.0.1");
    assert!(tried().trouble.is_some_and(|said| said.contains("password is wrong")));
    with(Some("backups"), Some("low tide"), "127.0.0.1");
    assert_eq!(tried().trouble, None);
    let state = with(Some("backups"), None, "127.0.0.1");
    assert!(state.has_password && !serde_json::to_string(&state).expect("JSON").contains("tide"));
    assert_eq!(tried().trouble, None, "it was kept");
    assert!(!with(Some("backups"), None, "localhost").has_password, "another server does not get it");
    with(Some("backups"), Some("low tide"), "127.0.0.1");
    let another_way = MailSettings { login: Some("backups".into()), security: MailSecurity::Starttls, ..settings.clone() };
    let state: MailState = office.put("/mail", &SetMail { settings: another_way, password: None }).expect("set");
    assert!(!state.has_password, "nor is it sent on another way");
    let log: Vec<AuditEntry> = office.api.list("/audit?text=mail").expect("listed");
    assert!(log.len() >= 4 && log.iter().all(|entry| !format!("{entry:?}").contains("tide")));
    let ended: MailState = office.api.send(Method::DELETE, "/mail", &()).expect("ended");
    assert_eq!(ended.settings, None);
    assert!(matches!(office.api.post::<_, MailState>("/mail/test", &()), Err(ClientError::Refused(_))));
}

#[test]
fn what_cannot_be_right_is_refused_and_a_server_without_a_good_certificate_gets_nothing() {
    let office = Office::open();
    let post_office = post_office(&office, None);
    let good = mail_to(&post_office);
    let changed = |change: &dyn Fn(&mut MailSettings)| {
        let mut set = good.clone();
        change(&mut set.settings);
        office.put::<_, MailState>("/mail", &set)
    };
    for (what, change) in [
        ("no recipient", &(|s: &mut MailSettings| s.recipients.clear()) as &dyn Fn(&mut MailSettings)),
        ("no address", &|s| s.recipients.push("ingrid".into())),
        ("a line break", &|s| s.recipients.push("ingrid@office.example\nBcc: mallory@elsewhere.example".into())),
        ("a sender that is none", &|s| s.sender = "nobody in particular".into()),
        ("a path for a server", &|s| s.server = "/etc/passwd".into()),
        ("no port", &|s| s.port = 0),
        ("no such hour", &|s| s.summary_hour = Some(24)),
    ] {
        match changed(change) {
            Err(ClientError::Refused(problem)) => assert_eq!(problem.known_kind(), Some(ProblemKind::Invalid), "{what}"),
            other => panic!("{what}: {other:?}"),
        }
    }
    // The stand-in speaks no TLS: nothing goes there in clear when TLS is asked for.
    for security in [MailSecurity::Tls, MailSecurity::Starttls] {
        changed(&|s| s.security = security).expect("set");
        let state: MailState = office.api.post("/mail/test", &()).expect("it says how it went");
        assert!(state.trouble.is_some() && post_office.messages().is_empty(), "{security:?}");
    }
    // One that knows nobody of this name says so.
    changed(&|s| s.recipients.push("nobody@office.example".into())).expect("set");
    let state: MailState = office.api.post("/mail/test", &()).expect("it says how it went");
    assert!(state.trouble.is_some_and(|said| said.contains("no such mailbox")));
}
