//! Many people and machines at once: what a roster says it would do, what it does, and the hand-outs.

use std::fmt::Write;

use jetfrost_client::api::Method;
use jetfrost_client::join::{FirstWays, claim, find_service, join, join_without_encryption, look_at_code};
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::unlock;
use jetfrost_client::{ClientError, Secret};
use jetfrost_image::crypto::SystemRandom;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_wire::access::Grants;
use jetfrost_wire::calls;
use jetfrost_wire::destination::{Adopt, Adopted, Destination, DestinationChange, EncryptionPolicy};
use jetfrost_wire::enrolment::{EnrolmentCode, Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::people::{Account, Role};
use jetfrost_wire::roster::{AskHandOuts, HandOutForm, Roster, RosterDone, RosterPlan};
use jetfrost_wire::workstation::Workstation as WorkstationRecord;

const HEADER: &str = "account,display name,groups,machine,disk,destination,limit,encryption\n";

fn roster(rows: &str) -> Roster {
    Roster { table: format!("{HEADER}{rows}"), hours: None }
}

fn plan(office: &Office, rows: &str) -> RosterPlan {
    office.api.post("/roster/plan", &roster(rows)).expect("a plan")
}

fn bring_in(office: &Office, rows: &str) -> RosterDone {
    office.api.post("/roster", &roster(rows)).expect("done")
}

fn refused(result: Result<impl Sized, ClientError>) -> String {
    match result {
        Err(ClientError::Refused(problem)) => problem.title + problem.detail.as_deref().unwrap_or_default(),
        _ => panic!("it should have been refused"),
    }
}

fn joins(office: &Office, name: &str, code: &str) -> StateDir {
    let home = StateDir::new(office.path(&format!("{name}-home")));
    let invitation = Invitation::parse(code).expect("a code");
    join(&home, &invitation, "whatever it is called", &FirstWays::passphrase(PASSPHRASE), &SystemRandom::default())
        .expect("joins");
    home
}

fn workstations(office: &Office) -> Vec<WorkstationRecord> {
    office.api.list("/workstations").expect("listed")
}

#[test]
fn a_table_makes_everything_once_and_one_more_line_adds_one_machine() {
    let office = Office::open();
    office.destination("Shelf");
    let first = "anna,Anna Lind,Crew,knot,500GB,Shelf,2x,\nben,Ben Ek,Crew,fid,,Shelf,,\n";
    assert_eq!(plan(&office, first).steps.len(), 5, "a group, two accounts, two codes");
    let done = bring_in(&office, first);
    assert_eq!(done.codes.len(), 2);
    assert_eq!(bring_in(&office, first).steps, [], "doing it again changes nothing");

    joins(&office, "knot", &done.codes[0].code);
    let joined = workstations(&office);
    assert_eq!((joined[0].name.as_str(), joined[0].login.as_str()), ("knot", "anna"), "the table decides the name");
    assert_eq!(joined[0].store.limit, Some(1_000_000_000_000));
    assert_eq!(bring_in(&office, first).steps, [], "a machine that has joined is as it should be");

    let done = bring_in(&office, &format!("{first}anna,,,marlin,,Shelf,none,\n"));
    assert_eq!((done.steps.len(), done.codes.len(), done.unchanged), (1, 1, 2));
    let accounts: Vec<Account> = office.api.list("/accounts").expect("listed");
    assert_eq!(accounts.len(), 3, "no one came twice");
}

#[test]
fn all_of_a_table_or_nothing_and_every_fault_with_its_place() {
    let office = Office::open();
    office.destination("Shelf");
    let rows = "anna,,,knot,,Shelf,,\nben,,,fid,,Nowhere,3x,maybe\n";
    let told: Vec<(u64, Option<String>)> =
        plan(&office, rows).faults.into_iter().map(|fault| (fault.line, fault.column)).collect();
    assert_eq!(told, [(3, Some("encryption".into()))], "what can be said of the text comes first");
    let rows = "anna,,,knot,,Shelf,,\nben,,,fid,,Nowhere,3x,\n";
    let told: Vec<(u64, Option<String>)> =
        plan(&office, rows).faults.into_iter().map(|fault| (fault.line, fault.column)).collect();
    assert_eq!(told, [(3, Some("destination".into())), (3, Some("limit".into()))]);
    assert!(refused(office.api.post::<_, RosterDone>("/roster", &roster(rows))).contains("ine 3, destination"));
    let accounts: Vec<Account> = office.api.list("/accounts").expect("listed");
    let codes: Vec<EnrolmentCode> = office.api.list("/enrolment-codes").expect("listed");
    assert_eq!((accounts.len(), codes.len()), (1, 0), "nothing was done");
}

#[test]
fn the_office_as_it_is_brought_in_again_changes_nothing() {
    let office = Office::open();
    office.destination("Shelf");
    bring_in(&office, "anna,\"Lind, Anna\",\"Crew; Deck\",knot,500GB,Shelf,2x,\n=ben,,,fid,,Shelf,none,\n");
    let code: IssuedCode = office.api.post("/enrolment-codes", &NewEnrolmentCode::new("=ben")).expect("a code");
    joins(&office, "fid", &code.code);
    let mut table = Vec::new();
    office.api.download(&calls::roster(), &[("filled", Some("true".into()))], &mut table).expect("fetched");
    let table = String::from_utf8(table).expect("text");
    assert!(table.contains("'=ben"), "no cell is a formula: {table}");
    let plan: RosterPlan = office.api.post("/roster/plan", &Roster { table, hours: None }).expect("a plan");
    assert_eq!((plan.steps, plan.faults), (vec![], vec![]));
}

#[test]
fn three_hundred_lines_are_planned_and_brought_in() {
    let office = Office::open();
    office.destination("Shelf");
    let mut rows = String::new();
    for i in 0..300 {
        writeln!(rows, "person {i},Person {i},Group {},machine {i},500GB,Shelf,2.5x,", i % 7).expect("written");
    }
    assert_eq!(plan(&office, &rows).steps.len(), 607);
    let done = bring_in(&office, &rows);
    assert_eq!(done.codes.len(), 300);
    let codes: Vec<String> = done.codes.into_iter().map(|one| one.code).collect();
    let mut page = Vec::new();
    office.api.download_with(&calls::hand_outs(), &AskHandOuts { codes, form: HandOutForm::Html }, &mut page).expect("made");
    assert_eq!(String::from_utf8_lossy(&page).matches("<article>").count(), 300);
}

#[test]
fn a_hand_out_opens_nothing_once_it_was_used_or_renewed() {
    let office = Office::open();
    office.destination("Shelf");
    let done = bring_in(&office, "anna,,,knot,,Shelf,,\nben,,,fid,,Shelf,,\n");
    let ask = |code: &str| AskHandOuts { codes: vec![code.to_owned()], form: HandOutForm::Html };
    let mut page = Vec::new();
    office.api.download_with(&calls::hand_outs(), &ask(&done.codes[0].code), &mut page).expect("made");
    let page = String::from_utf8(page).expect("text");
    assert!(page.contains("Backups of knot") && page.contains(&done.codes[0].code) && page.contains("<svg"));

    joins(&office, "knot", &done.codes[0].code);
    let why = refused(office.api.download_with(&calls::hand_outs(), &ask(&done.codes[0].code), &mut Vec::new()));
    assert!(why.contains("cannot be used"), "{why}");

    let path = format!("/enrolment-codes/{}/renewal", done.codes[1].record.id);
    let _: IssuedCode = office.api.post(&path, &()).expect("renewed");
    let renewed: IssuedCode = office.api.post(&path, &()).expect("renewed again");
    let lasts = |code: &IssuedCode| code.record.expires.as_second() - code.record.created.as_second();
    assert_eq!(lasts(&renewed), lasts(&done.codes[1]), "it lasts no longer for being renewed");
    assert_eq!(renewed.record.machine.as_deref(), Some("fid"));
    let old = look_at_code(&Invitation::parse(&done.codes[1].code).expect("a code"));
    assert!(refused(old).contains("not made by this service"));
    joins(&office, "fid", &renewed.code);
    let again = office.api.post::<_, IssuedCode>(&path, &());
    assert!(refused(again).contains("used or cancelled"), "a used code is not made good again");
}

#[test]
fn a_code_opens_nothing_while_its_account_is_disabled() {
    let office = Office::open();
    office.destination("Shelf");
    let anna = office.account("anna", Role::Member);
    let invitation = office.code("anna");
    let path = format!("/accounts/{}/disabled", anna.id);
    let _: Account = office.put(&path, &()).expect("disabled");
    assert!(refused(look_at_code(&invitation)).contains("disabled"));
    let _: Account = office.api.send(Method::DELETE, &path, &()).expect("enabled");
    assert_eq!(look_at_code(&invitation).expect("it is good again").login, "anna");
}

#[test]
fn a_machine_goes_without_encryption_only_where_its_code_and_its_destination_say_so() {
    let office = Office::open();
    let shelf = office.destination("Shelf");
    office.account("anna", Role::Member);
    let without = NewEnrolmentCode { without_encryption: true, ..NewEnrolmentCode::new("anna") };
    assert!(refused(office.api.post::<_, IssuedCode>("/enrolment-codes", &without)).contains("encrypted image stores only"));
    let change = |policy| DestinationChange { encryption: Some(policy), ..DestinationChange::default() };
    let path = format!("/destinations/{}", shelf.id);
    let _: Destination = office.patch(&path, &change(EncryptionPolicy::Optional)).expect("changed");

    let home = StateDir::new(office.path("open-home"));
    let invitation = office.code("anna");
    let refusal = join_without_encryption(&home, &invitation, "open", &SystemRandom::default());
    assert!(refused(refusal).contains("encrypted image stores only"), "a code that says nothing wants encryption");

    let issued: IssuedCode = office.api.post("/enrolment-codes", &without).expect("a code");
    let invitation = Invitation::parse(&issued.code).expect("a code");
    let _: Destination = office.patch(&path, &change(EncryptionPolicy::Required)).expect("changed");
    let refusal = join_without_encryption(&home, &invitation, "open", &SystemRandom::default());
    assert!(refused(refusal).contains("encrypted image stores only"), "the destination has the last word");

    let _: Destination = office.patch(&path, &change(EncryptionPolicy::Optional)).expect("changed");
    join_without_encryption(&home, &invitation, "open", &SystemRandom::default()).expect("joins");
    assert!(!workstations(&office)[0].store.encrypted, "it is said wherever the store is shown");
}

#[test]
fn access_comes_with_the_machine_and_only_with_it() {
    let office = Office::open();
    let shelf = office.destination("Shelf");
    let nobody = DestinationChange { grants: Some(Grants::default()), ..DestinationChange::default() };
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &nobody).expect("changed");
    bring_in(&office, "anna,,,knot,,Shelf,,\nben,,,,,,,\n");
    let shelves: Vec<Destination> = office.api.list("/destinations").expect("listed");
    assert_eq!(shelves[0].grants.logins, ["anna"]);
}

#[test]
fn a_service_is_found_where_its_code_says() {
    let office = Office::open();
    office.destination("Shelf");
    office.account("anna", Role::Member);
    let invitation = office.code("anna");
    let (there, info) = find_service(&invitation).expect("found");
    assert_eq!((there, info.public_name.as_str()), (invitation, "localhost"));
}

#[test]
fn after_a_dead_server_the_office_as_it_is_hands_every_machine_its_backups() {
    let old = Office::open();
    old.destination("shelf");
    let station = old.workstation("knot");
    station.write("letter", "from before");
    station.back_up().expect("backed up");
    let new = Office::open();
    let adopt = Adopt { directory: old.path("shelf").display().to_string(), name: None, preview: false };
    let _: Adopted = new.api.post("/destinations/adoption", &adopt).expect("adopted");

    let mut table = Vec::new();
    new.api.download(&calls::roster(), &[("filled", Some("true".into()))], &mut table).expect("fetched");
    let roster = Roster { table: String::from_utf8(table).expect("text"), hours: None };
    let done: RosterDone = new.api.post("/roster", &roster).expect("done");
    let about: Vec<&str> = done.steps.iter().map(|step| step.about.as_str()).collect();
    assert_eq!(about, ["access", "enrolment code"]);
    let again: RosterDone = new.api.post("/roster", &roster).expect("done");
    assert_eq!(again.steps, [], "its code waits");

    let home = StateDir::new(new.path("knot-home"));
    claim(&home, &Invitation::parse(&done.codes[0].code).expect("a code")).expect("claimed");
    assert!(unlock(&home, Secret::Passphrase(PASSPHRASE)).expect("opened"));
    let machine = Workstation { home, folder: station.folder.clone(), recovery_key: station.recovery_key.clone() };
    machine.restore_all(&new.path("back")).expect("restored");
    let letter = machine.restored(&new.path("back")).join("letter");
    assert_eq!(std::fs::read_to_string(letter).expect("there"), "from before");
    let again: RosterDone = new.api.post("/roster", &roster).expect("done");
    assert_eq!(again.steps, [], "and it stays with its machine");
}
