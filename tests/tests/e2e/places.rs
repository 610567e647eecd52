//! Destinations from their beginning to their end: found fit, opened, missing, withdrawn, erased, adopted; and the service's own
//! records, which come back from a destination's disk.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use jetfrost_client::api::Method;
use jetfrost_client::browse::At;
use jetfrost_client::join::{claim, look_at_code};
use jetfrost_client::restore::{Rights, Wish};
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::{new_office_key, unlock};
use jetfrost_client::{ClientError, Secret, system_random};
use jetfrost_image::format::ArgonCost;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_wire::Binary;
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{
    Adopt, Adopted, AskErasure, ConfirmErasure, Destination, DestinationChange, DestinationState, ErasurePreview, Fitness,
    NewDestination, Volume,
};
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::people::{Account, Role};
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::service::{AuditEntry, Escrow, NewEscrow};
use jetfrost_wire::sizing::{AskCapacity, CapacityAdvice};
use jetfrost_wire::workstation::{Overview, WorkstationState};

fn kind(result: Result<impl std::fmt::Debug, ClientError>) -> Option<ProblemKind> {
    match result {
        Err(ClientError::Refused(problem)) => problem.known_kind(),
        other => panic!("it was not refused: {other:?}"),
    }
}

fn destination(office: &Office, name: &str) -> Destination {
    let all: Vec<Destination> = office.api.list("/destinations").expect("listed");
    all.into_iter().find(|d| d.name == name).expect("it is there")
}

fn files_below(directory: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut files = BTreeMap::new();
    let mut directories = vec![directory.to_owned()];
    while let Some(directory) = directories.pop() {
        for entry in fs::read_dir(directory).expect("readable") {
            let path = entry.expect("an entry").path();
            if path.is_dir() { directories.push(path) } else { drop(files.insert(path.clone(), fs::read(path).expect("read"))) }
        }
    }
    files
}

fn comes_back(station: &Workstation, into: &Path, file: &str, content: &str) {
    station.restore_all(into).expect("restored");
    assert_eq!(fs::read_to_string(station.restored(into).join(file)).expect("there"), content);
}

#[test]
fn the_servers_volumes_are_listed_with_what_lies_there_and_a_verdict_each() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let volumes: Vec<Volume> = office.api.list("/volumes").expect("listed");
    assert!(volumes.iter().all(|v| v.size > 0 && !v.mounted_at.is_empty()), "{volumes:?}");
    assert!(volumes.iter().filter(|v| v.fitness != Fitness::Fit).all(|v| !v.reasons.is_empty()), "{volumes:?}");
    let held = volumes.iter().flat_map(|v| &v.holds).find(|h| h.directory == shelf.directory).expect("it is on one of them");
    assert!(held.ours && held.name == "shelf");
}

#[test]
fn a_destination_is_open_to_nobody_until_it_is_opened_and_closing_it_stops_backups_but_no_restore() {
    let office = Office::open();
    let new = NewDestination {
        name: "shelf".into(),
        directory: office.path("shelf").display().to_string(),
        reserve: Some(0),
        ..NewDestination::default()
    };
    let shelf: Destination = office.api.post("/destinations", &new).expect("a destination");
    assert!(shelf.why.contains("nobody has access"), "{}", shelf.why);
    office.account("tove", Role::Member);
    let ask = NewEnrolmentCode::new("tove");
    assert_eq!(kind(office.api.post::<_, IssuedCode>("/enrolment-codes", &ask)), Some(ProblemKind::NoAccess));

    let open = |grants| DestinationChange { grants: Some(grants), ..DestinationChange::default() };
    let path = format!("/destinations/{}", shelf.id);
    let _: Destination = office.patch(&path, &open(Grants::everybody())).expect("opened");
    let station = office.workstation("knot");
    station.write("letter", "before");
    station.back_up().expect("backed up");
    let _: Destination = office.patch(&path, &open(Grants { logins: vec!["TOVE".into()], ..Grants::default() })).expect("closed");
    assert_eq!(kind(station.back_up()), Some(ProblemKind::NoAccess));
    comes_back(&station, &office.path("back"), "letter", "before");
    let said = destination(&office, "shelf").grants;
    assert_eq!((said.everybody, said.logins), (false, vec!["tove".to_owned()]));
}

#[test]
fn a_missing_destination_is_noticed_with_its_time_and_so_is_its_return_without_a_restart() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    clock.set("2026-10-01T11:00:00Z".parse().expect("a time"));
    fs::rename(office.path("shelf"), office.path("unmounted")).expect("gone");
    office.tend();
    let missing = destination(&office, "shelf");
    assert_eq!(
        (missing.state, missing.since),
        (DestinationState::Missing, Some("2026-10-01T11:00:00Z".parse().expect("a time")))
    );
    assert_eq!(kind(station.back_up()), Some(ProblemKind::DestinationMissing));
    assert!(!office.path("shelf").exists(), "nothing was made in its stead");
    fs::rename(office.path("unmounted"), office.path("shelf")).expect("back");
    office.tend();
    assert_eq!(destination(&office, "shelf").state, DestinationState::Ready);
    station.back_up().expect("backed up again");
    let log: Vec<AuditEntry> = office.api.list("/audit").expect("listed");
    let noticed: Vec<&str> = log.iter().filter(|e| e.who == "the service").map(|e| e.what.as_str()).collect();
    assert_eq!(noticed, ["destination back", "destination missing", "audit key made"]);
}

#[test]
fn a_destination_that_moved_to_another_mount_point_goes_on_there() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    fs::rename(office.path("shelf"), office.path("elsewhere")).expect("moved");
    let to = |name: &str| DestinationChange {
        directory: Some(office.path(name).display().to_string()),
        ..DestinationChange::default()
    };
    let path = format!("/destinations/{}", shelf.id);
    fs::create_dir(office.path("empty")).expect("made");
    assert_eq!(kind(office.patch::<_, Destination>(&path, &to("empty"))), Some(ProblemKind::Invalid));
    let _: Destination = office.patch(&path, &to("elsewhere")).expect("moved");
    station.back_up().expect("backed up there");
    comes_back(&station, &office.path("back"), "letter", "here");
}

#[test]
fn a_withdrawn_destination_takes_nothing_new_and_gives_everything_back() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let path = format!("/destinations/{}/withdrawn", shelf.id);
    let withdrawn: Destination = office.put(&path, &()).expect("withdrawn");
    assert_eq!(withdrawn.state, DestinationState::Withdrawn);
    assert!(withdrawn.since.is_some() && withdrawn.why.contains("ingrid withdrew it"), "{withdrawn:?}");
    assert_eq!(kind(station.back_up()), Some(ProblemKind::Withdrawn));
    comes_back(&station, &office.path("back"), "letter", "here");
    let back: Destination = office.api.send(Method::DELETE, &path, &()).expect("brought back");
    assert_eq!(back.state, DestinationState::Ready);
    station.back_up().expect("backed up again");
}

#[test]
fn a_destination_is_erased_after_two_confirmations_and_the_protected_time_of_its_points_and_not_before() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let path = format!("/destinations/{}/erasure", shelf.id);
    let ask = |name: &str| office.api.post::<_, ErasurePreview>(&path, &AskErasure { name: name.into() });
    let confirm = |word: &str| office.put::<_, Destination>(&path, &ConfirmErasure { confirmation: word.into() });
    assert_eq!(kind(ask("shelf")), Some(ProblemKind::Conflict), "only a withdrawn one");
    let _: Destination = office.put(&format!("/destinations/{}/withdrawn", shelf.id), &()).expect("withdrawn");
    assert_eq!(kind(ask("shelv")), Some(ProblemKind::Invalid));
    assert_eq!(kind(confirm("anything")), Some(ProblemKind::Conflict), "the first step comes first");
    let preview = ask("Shelf").expect("asked");
    assert_eq!((preview.points, preview.stores[0].workstation.as_str(), preview.waiting_days), (1, "knot", 30));
    assert!(preview.bytes > 0 && preview.earliest.is_some());
    let word = preview.confirmation.expect("a word");
    assert_eq!(kind(confirm("wrong")), Some(ProblemKind::Invalid));
    let erasing = confirm(&word).expect("confirmed");
    assert_eq!(erasing.state, DestinationState::Erasing);

    // Called off, all is as it was; what was asked before counts no more.
    let off: Destination = office.api.send(Method::DELETE, &path, &()).expect("called off");
    assert_eq!(off.state, DestinationState::Withdrawn);
    let word = ask("shelf").expect("asked").confirmation.expect("a word");
    confirm(&word).expect("confirmed");
    clock.set("2026-10-31T09:59:00Z".parse().expect("a time"));
    office.tend();
    comes_back(&station, &office.path("back"), "letter", "here");

    // A hold that came meanwhile is stronger.
    let hold = jetfrost_wire::retention::NewHold { reason: "a dispute".into() };
    let held: jetfrost_wire::workstation::Workstation = office.put(&format!("{}/hold", station.store()), &hold).expect("held");
    clock.set("2026-10-31T10:01:00Z".parse().expect("a time"));
    office.tend();
    assert_eq!(destination(&office, "shelf").stores, 1);
    office.api.delete(&format!("/stores/{}/hold", held.store.id)).expect("released");
    office.tend();
    office.tend();
    let left: Vec<Destination> = office.api.list("/destinations").expect("listed");
    assert!(left.is_empty(), "{left:?}");
    assert_eq!(files_below(&office.path("shelf")), BTreeMap::new());
    // Its name and its directory are free again.
    office.destination("shelf");
}

#[test]
fn a_destination_without_room_from_the_start_says_so_and_that_nobody_has_access() {
    let office = Office::open();
    let new = NewDestination {
        name: "shelf".into(),
        directory: office.path("shelf").display().to_string(),
        reserve: Some(1 << 50),
        ..NewDestination::default()
    };
    let shelf: Destination = office.api.post("/destinations", &new).expect("a destination");
    assert_eq!((shelf.state, shelf.room), (DestinationState::Full, Some(0)));
    assert!(shelf.why.contains("reserve is reached") && shelf.why.contains("nobody has access"), "{}", shelf.why);
}

#[test]
fn a_destination_of_another_installation_is_adopted_from_its_disk_and_a_machine_claims_its_backups() {
    let old = Office::open();
    old.destination("shelf");
    let station = old.workstation("knot");
    station.write("letter", "from before");
    station.back_up().expect("backed up");
    station.write("letter", "the latest");
    station.back_up().expect("backed up");
    let directory = old.path("shelf");
    let before = files_below(&directory);

    let new = Office::open();
    let adopt = |preview| Adopt { directory: directory.display().to_string(), name: None, preview };
    let preview: Adopted = new.api.post("/destinations/adoption", &adopt(true)).expect("a preview");
    assert_eq!((preview.name.as_str(), preview.stores[0].points, preview.stores[0].new_account), ("shelf", 2, true));
    assert_eq!(files_below(&directory), before, "a preview writes nothing");
    station.back_up().expect("the old one still works");
    let adopted: Adopted = new.api.post("/destinations/adoption", &adopt(false)).expect("adopted");
    assert_eq!(adopted.left_out, Vec::<String>::new());
    assert_eq!(kind(station.back_up()), Some(ProblemKind::DestinationMissing), "the old one writes there no more");
    let overview: Overview = new.api.get("/overview").expect("an overview");
    let w = &overview.workstations[0];
    assert_eq!((w.name.as_str(), w.login.as_str(), w.state), ("knot", "owner of knot", WorkstationState::Unclaimed));
    assert_eq!((w.store.points, w.latest_point.as_ref().map(|p| p.sequence)), (3, Some(3)));

    // The machine comes with its passphrase, and the history goes on.
    let ask = NewEnrolmentCode { claims: Some("knot".into()), ..NewEnrolmentCode::new("owner of knot") };
    let issued: IssuedCode = new.api.post("/enrolment-codes", &ask).expect("a code");
    let invitation = Invitation::parse(&issued.code).expect("a code");
    assert_eq!(look_at_code(&invitation).expect("known").claims.as_deref(), Some("knot"));
    let home = StateDir::new(new.path("knot-home"));
    claim(&home, &invitation).expect("claimed");
    assert!(matches!(unlock(&home, Secret::Passphrase("another one")), Err(ClientError::WrongPassphrase)));
    assert!(unlock(&home, Secret::Passphrase(PASSPHRASE)).expect("opened"), "the key was to come");
    let mut selection = home.selection().expect("readable");
    selection.include(&station.folder).expect("kept");
    home.write_selection(&selection).expect("written");
    let machine = Workstation { home, folder: station.folder.clone(), recovery_key: station.recovery_key.clone() };
    comes_back(&machine, &new.path("back"), "letter", "the latest");
    let early = Wish::everything(new.path("early")).rights(Rights::Keep);
    machine.restore(&At::Sequence(1), &early).expect("restored");
    assert_eq!(fs::read_to_string(machine.restored(&new.path("early")).join("letter")).expect("there"), "from before");
    assert_eq!(kind(machine.back_up()), Some(ProblemKind::NoAccess), "nobody has access to an adopted destination");
    let shelf = destination(&new, "shelf");
    let open = DestinationChange { grants: Some(Grants::everybody()), reserve: Some(0), ..DestinationChange::default() };
    let _: Destination = new.patch(&format!("/destinations/{}", shelf.id), &open).expect("opened");
    assert_eq!(machine.back_up().expect("backed up").point.sequence, 4);
}

#[test]
fn the_service_starts_again_from_a_destinations_disk_and_workstations_notice_nothing() {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let overview: Overview = office.api.get("/overview").expect("an overview");
    assert!(overview.protection.is_some_and(|p| !p.protected && p.says.contains("escrow start")));

    let cost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    let (public, file) = new_office_key("in the safe, not here", cost, &system_random());
    let key_file = office.path("office.key");
    fs::write(&key_file, file.to_bytes()).expect("written");
    let set = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations: false };
    let _: Escrow = office.put("/escrow", &set).expect("set");
    office.tend();
    let overview: Overview = office.api.get("/overview").expect("an overview");
    let protection = overview.protection.expect("for the administrator");
    assert!(protection.protected && protection.says.contains("'shelf'"), "{protection:?}");
    // A point that is younger than the copy is found on the disk.
    station.write("letter", "younger than the copy");
    station.back_up().expect("backed up");

    let passphrase = |text: &str| {
        let text = text.to_owned();
        move || Ok(text)
    };
    let recover = |text: &str, state: &str| {
        jetfrost_service::recover(&office.path("shelf"), &key_file, passphrase(text), &office.path(state))
    };
    assert!(recover("wrong", "recovered").is_err());
    assert!(recover("in the safe, not here", "state").is_err(), "records that are there are not touched");
    recover("in the safe, not here", "recovered").expect("recovered");
    office.stop();
    fs::remove_dir_all(office.path("state")).expect("the server died");
    fs::rename(office.path("recovered"), office.path("state")).expect("in its place");
    office.start();
    comes_back(&station, &office.path("back-before"), "letter", "younger than the copy");
    assert_eq!(station.back_up().expect("backed up").point.sequence, 3);
    let accounts: Vec<Account> = office.api.list("/accounts").expect("the session goes on");
    assert_eq!(accounts.len(), 2);
}

#[test]
fn a_damaged_copy_of_the_records_is_passed_over_for_the_one_before() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    let cost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    let (public, file) = new_office_key("in the safe, not here", cost, &system_random());
    fs::write(office.path("office.key"), file.to_bytes()).expect("written");
    let set = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations: true };
    let _: Escrow = office.put("/escrow", &set).expect("set");
    for day in 1..=10 {
        clock.set(format!("2026-10-{day:02}T11:00:00Z").parse().expect("a time"));
        office.tend();
    }
    let mut copies: Vec<PathBuf> = files_below(&office.path("shelf/records")).into_keys().collect();
    copies.retain(|path| path.extension().is_some_and(|end| end == "jfbox"));
    copies.sort();
    assert_eq!(copies.len(), 7, "the oldest go");
    let youngest = copies.pop().expect("one");
    let mut bytes = fs::read(&youngest).expect("read");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&youngest, bytes).expect("written");
    let recovered = jetfrost_service::recover(
        &office.path("shelf"),
        &office.path("office.key"),
        || Ok("in the safe, not here".into()),
        &office.path("recovered"),
    )
    .expect("recovered");
    assert_eq!((recovered.passed_over, Some(&recovered.copy)), (vec![youngest], copies.last()));
}

#[test]
fn what_a_capacity_would_mean_is_said_before_it_is_set() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let ask = |capacity| AskCapacity { destination: Some(shelf.id.clone()), capacity, ..AskCapacity::default() };
    let advise = |ask: &AskCapacity| office.api.post::<_, CapacityAdvice>("/advice/capacity", ask).expect("advice");
    let some = advise(&ask(Some(50_000_000)));
    assert_eq!((some.offered, some.without_limit, some.over_commitment), (50_000_000, 1, None));
    assert!(some.says.iter().any(|line| line.contains("1 store without a limit")), "{:?}", some.says);
    let too_much = advise(&ask(Some(u64::MAX >> 1)));
    assert!(too_much.offered <= too_much.volume && too_much.says[0].contains("more than that is never stored"));
    let too_little = advise(&ask(Some(1)));
    assert!(too_little.says[0].contains("new backups are refused"), "{:?}", too_little.says);
    let yet_to_come =
        AskCapacity { directory: Some(office.path("not/yet/there").display().to_string()), ..AskCapacity::default() };
    assert!(advise(&yet_to_come).offered > 0, "the volume of what is above it");
    let helper = office.account("helper", Role::Helpdesk);
    let refused = office.signed_in(&helper.login).post::<_, CapacityAdvice>("/advice/capacity", &yet_to_come);
    assert_eq!(kind(refused), Some(ProblemKind::NotAllowed), "directories are the administrator's");
}
