//! Joining: with nobody at the keyboard, guided at a terminal, again after a reinstall; and leaving.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use jetfrost_client::exclusion::Template;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::unlock;
use jetfrost_client::{ClientError, Secret};
use jetfrost_tests::office::{Office, PASSPHRASE, PASSWORD, Workstation};
use jetfrost_tests::programs::{jetfrost, jetfrost_ends, start};
use jetfrost_tests::terminal::Terminal;
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{Destination, DestinationChange, EncryptionPolicy};
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::people::Role;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::service::{AuditEntry, Session};
use jetfrost_wire::workstation::Workstation as Record;
use serde_json::json;

/// A code for an account; `of` may make it hand over a workstation.
fn code(office: &Office, login: &str, of: Option<&str>) -> String {
    let new = NewEnrolmentCode { claims: of.map(str::to_owned), ..NewEnrolmentCode::new(login) };
    office.api.post::<_, IssuedCode>("/enrolment-codes", &new).expect("made").code
}

fn passphrase(office: &Office) -> String {
    let file = office.path("passphrase");
    fs::write(&file, PASSPHRASE).expect("written");
    file.display().to_string()
}

fn open_office() -> Office {
    let office = Office::open();
    office.destination("shelf");
    office.account("tove", Role::Member);
    office
}

fn text(path: &Path) -> &str {
    path.to_str().expect("text")
}

#[test]
fn a_roll_out_joins_by_a_file_of_answers_and_what_is_wrong_in_it_costs_no_code() {
    let office = open_office();
    let (home, folder, key) = (office.path("home"), office.path("letters"), office.path("recovery-key"));
    let code = code(&office, "tove", None);
    let answers = office.path("answers.toml");
    let write = |folder: &Path| {
        let text = format!(
            "code = '{code}'\nname = 'front desk'\npassphrase-file = '{}'\nrecovery-key-file = '{}'\ninclude = ['{}']\n\
             exclude = ['*.iso']\ntemplate = ['trash']\nagent = 'no'\nfirst-backup = 'now'\n",
            passphrase(&office),
            key.display(),
            folder.display()
        );
        fs::write(&answers, text).expect("written");
    };
    write(&folder);
    let said = jetfrost_ends(&home, &["join", "--answers", text(&answers)], 1).err;
    assert!(said.contains("letters") && said.contains("not there"), "{said}");
    fs::write(&key, "another's").expect("written");
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("letter"), "dear Aud").expect("written");
    let said = jetfrost_ends(&home, &["join", "--answers", text(&answers)], 1).err;
    assert!(said.contains("recovery-key cannot be made") && !home.join("workstation.json").exists(), "{said}");
    assert_eq!(fs::read_to_string(&key).expect("there"), "another's", "nothing is written over");
    fs::remove_file(&key).expect("removed");

    let said = jetfrost_ends(&home, &["--json", "join", "--answers", text(&answers)], 0).out;
    let value: serde_json::Value = serde_json::from_str(&said).expect("one value");
    assert_eq!((&value["name"], &value["included"], &value["agent"]), (&"front desk".into(), &1.into(), &false.into()));
    assert!(value["recovery_key"].is_null(), "it is in the file alone: {value}");
    assert_eq!(fs::metadata(&key).expect("there").permissions().mode() & 0o777, 0o600);
    let state_dir = StateDir::new(&home);
    let recovery = jetfrost_client::RecoveryKey::parse(fs::read_to_string(&key).expect("there").trim()).expect("a key");
    unlock(&state_dir, Secret::RecoveryKey(&recovery)).expect("it opens the store");
    let selection = state_dir.selection().expect("readable");
    assert_eq!((selection.exclude, selection.templates), (vec!["*.iso".to_owned()], vec![Template::Trash]));
    let known: Record =
        office.api.get(&format!("/workstations/{}", state_dir.membership().expect("joined").workstation)).expect("there");
    assert_eq!(known.latest_point.map(|point| point.files), Some(1), "the first backup is made");
}

#[test]
fn a_person_is_led_from_a_code_to_the_first_backup() {
    let office = open_office();
    let (home, folder) = (office.path("home"), office.path("letters"));
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("letter"), "dear Aud").expect("written");
    let mut terminal = Terminal::jetfrost(&home, &format!("join --include '{}' --agent no", folder.display()));
    terminal.shows("Enrolment code");
    terminal.types(&code(&office, "tove", None));
    terminal.shows("new image passphrase");
    terminal.types(PASSPHRASE);
    terminal.shows("The same once more");
    terminal.types(PASSPHRASE);
    terminal.shows("shown this once:");
    let key = terminal.shows("Type the last four characters");
    let key = key.split_whitespace().next().expect("a key").to_owned();
    terminal.types("nope");
    terminal.shows("That is not what it ends with");
    terminal.shows("Type the last four characters");
    terminal.types(&key[key.len() - 4..].to_lowercase());
    terminal.shows("Make the first backup now?");
    terminal.types("");
    terminal.shows("Point 1 is complete");
    terminal.ends(0);
    let recovery = jetfrost_client::RecoveryKey::parse(&key).expect("a key");
    unlock(&StateDir::new(&home), Secret::RecoveryKey(&recovery)).expect("the key that was shown opens the store");
    let mut second = Terminal::jetfrost(&home, "join");
    second.shows("already workstation");
    second.shows("jetfrost leave");
    second.ends(1);
}

/// A workstation with a selection of its own and a point.
fn with_selection(office: &Office) -> Workstation {
    let station = office.workstation("dunlin");
    station.write("letter.odt", "what it says");
    let mut selection = station.home.selection().expect("readable");
    selection.exclude("*.tmp").expect("a pattern");
    selection.exclude_by(Template::BuildOutputs);
    station.home.write_selection(&selection).expect("written");
    station.back_up().expect("backed up");
    station
}

#[test]
fn whoever_takes_a_workstation_over_goes_on_with_what_it_included_and_left_out() {
    let office = Office::open();
    office.destination("shelf");
    let station = with_selection(&office);
    let before = station.home.selection().expect("readable");
    let (login, home) = (station.home.membership().expect("joined").login, office.path("new laptop"));
    let said =
        jetfrost_ends(&home, &["join", &code(&office, &login, Some("dunlin")), "--passphrase-file", &passphrase(&office)], 0).out;
    assert!(said.contains("goes on with that"), "{said}");
    assert_eq!(StateDir::new(&home).selection().expect("readable"), before);
    let backed_up = jetfrost_ends(&home, &["backup"], 0).out;
    assert!(backed_up.contains("Point 2 is complete"), "{backed_up}");
}

#[test]
fn what_a_store_without_a_secret_says_was_included_is_not_believed_without_a_person() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let optional = DestinationChange { encryption: Some(EncryptionPolicy::Optional), ..DestinationChange::default() };
    let _: serde_json::Value = office.patch(&format!("/destinations/{}", shelf.id), &optional).expect("set");
    office.account("tove", Role::Member);
    let folder = office.path("letters");
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("letter"), "dear Aud").expect("written");
    let new = NewEnrolmentCode { without_encryption: true, machine: Some("dunlin".into()), ..NewEnrolmentCode::new("tove") };
    let first: IssuedCode = office.api.post("/enrolment-codes", &new).expect("made");
    let here = ["--without-encryption", "--include", text(&folder), "--first-backup", "now"];
    let _ = jetfrost_ends(&office.path("first"), &[&["join", &first.code][..], &here].concat(), 0);
    let second = office.path("second");
    let said = jetfrost_ends(&second, &["join", &code(&office, "tove", Some("dunlin"))], 0);
    assert!(said.out.contains("letters") && said.err.contains("Nothing is included"), "{}{}", said.out, said.err);
    assert!(StateDir::new(&second).selection().expect("readable").is_empty());
}

#[test]
fn leaving_says_what_stays_where_and_coming_back_goes_on() {
    let office = Office::open();
    office.destination("shelf");
    let station = with_selection(&office);
    let (membership, home) = (station.home.membership().expect("joined"), station.home.directory());
    let agent = start(jetfrost(home).args(["agent", "run"]));
    let _ = agent.line("it runs", |line| line.contains("waiting"));
    let refused = jetfrost_ends(home, &["leave", "--confirm", "dunlin"], 1).err;
    assert!(refused.contains("An agent runs"), "{refused}");
    agent.terminate();
    let refused = jetfrost_ends(home, &["leave", "--confirm", "knot"], 1).err;
    assert!(refused.contains("Nothing was changed") && refused.contains("1 recovery point on 'shelf'"), "{refused}");
    assert!(refused.contains("Nobody has proved yet"), "{refused}");
    let said = jetfrost_ends(home, &["leave", "--confirm", "dunlin"], 0).out;
    assert!(said.contains("jetfrost workstation retire dunlin"), "{said}");
    let left: Vec<_> =
        fs::read_dir(home).expect("there").filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect();
    assert!(!left.iter().any(|name| name.contains("key") || name == "workstation.json" || name == "memory"), "{left:?}");
    assert!(left.contains(&"selection.toml".to_owned()), "{left:?}");
    let _ = jetfrost_ends(home, &["leave", "--confirm", "dunlin"], 1);

    let again = code(&office, &membership.login, Some("dunlin"));
    assert!(Invitation::parse(&again).is_ok());
    let _ = jetfrost_ends(home, &["join", &again, "--passphrase-file", &passphrase(&office)], 0);
    let said = jetfrost_ends(home, &["backup"], 0).out;
    assert!(said.contains("Point 2 is complete"), "its history goes on: {said}");
}

#[test]
fn where_the_office_lets_people_enrol_their_own_machines_they_join_by_signing_in_and_five_at_most() {
    let office = open_office();
    let (address, fingerprint, passphrase) = (office.address(), office.fingerprint(), passphrase(&office));
    let try_to_join = |machine: &str, login: &str, code: i32| {
        let (home, key) = (office.path(machine), office.path(&format!("{machine}-key")));
        let words = ["join", "--sign-in", login, "--service", &address, "--fingerprint", &fingerprint, "--name", machine];
        let more = ["--passphrase-file", &passphrase, "--recovery-key-file", text(&key), "--agent", "no"];
        (jetfrost_ends(&home, &[&words[..], &more].concat(), code), home)
    };
    let (said, _) = try_to_join("knot", "tove", 1);
    assert!(said.err.contains("only administrators enrol machines"), "{}", said.err);
    let settings = |own_machines| json!({ "units": "decimal", "own_machines": own_machines });
    let _: serde_json::Value = office.put("/settings", &settings(true)).expect("set");

    let (said, home) = try_to_join("knot", "tove", 0);
    assert!(said.out.contains("'knot' of tove"), "{}", said.out);
    assert!(!home.join("session.json").exists(), "nothing of the session stays");
    let tove = office.signed_in("tove");
    let sessions: Vec<Session> = tove.list("/sessions").expect("listed");
    assert_eq!(sessions.len(), 1, "only the one that asks: {sessions:?}");
    let audit: Vec<AuditEntry> = office.api.list("/audit").expect("listed");
    assert!(audit.iter().any(|entry| entry.what == "enrolment code made" && entry.who == "tove"), "{audit:?}");

    // A destination that is not for her, a password that is not hers, and more machines than a person enrols.
    let issue = |destination: &str| {
        tove.post::<_, IssuedCode>("/sessions/current/enrolment-code", &json!({ "destination": destination }))
    };
    let attic = office.destination("attic");
    let closed = DestinationChange { grants: Some(Grants::default()), ..DestinationChange::default() };
    let _: Destination = office.patch(&format!("/destinations/{}", attic.id), &closed).expect("closed");
    assert!(matches!(issue("attic"), Err(ClientError::Refused(problem)) if problem.known_kind() == Some(ProblemKind::NoAccess)));
    for _ in 0..4 {
        let issued = issue("shelf").expect("made");
        assert!(issued.record.encrypted && issued.record.claims.is_none(), "{:?}", issued.record);
        let lasts = issued.record.expires.duration_since(issued.record.created);
        assert_eq!(lasts.as_hours(), 1);
    }
    let refused = issue("shelf").expect_err("the sixth");
    assert!(
        matches!(&refused, ClientError::Refused(problem) if problem.reason.as_deref() == Some("enough_machines")),
        "{refused:?}"
    );
    let _: serde_json::Value = office.put("/settings", &settings(false)).expect("set");
    let refused = issue("shelf").expect_err("no more");
    assert!(
        matches!(&refused, ClientError::Refused(problem) if problem.reason.as_deref() == Some("not_own_machines")),
        "{refused:?}"
    );
}

#[test]
fn whoever_signs_in_to_join_compares_the_fingerprint_before_the_password_is_told() {
    let office = open_office();
    let settings = json!({ "units": "decimal", "own_machines": true });
    let _: serde_json::Value = office.put("/settings", &settings).expect("set");
    let words = format!("join --sign-in tove --service {} --name knot --agent no", office.address());
    let mut refusing = Terminal::jetfrost(&office.path("home"), &words);
    refusing.shows(&office.fingerprint());
    refusing.shows("your administrator gave you?");
    refusing.types("n");
    refusing.shows("was not confirmed");
    refusing.ends(1);
    let mut agreeing = Terminal::jetfrost(&office.path("home"), &words);
    agreeing.shows("your administrator gave you?");
    agreeing.types("y");
    agreeing.shows("password of account 'tove'");
    agreeing.types(PASSWORD);
    agreeing.shows("new image passphrase");
    agreeing.types(PASSPHRASE);
    agreeing.shows("The same once more");
    agreeing.types(PASSPHRASE);
    agreeing.shows("shown this once:");
}
