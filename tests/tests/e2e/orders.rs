//! Orders: restores that somebody asks a workstation's agent to do, and what a service that lies can make of them.

use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use jetfrost_client::at_service::StoreAtService;
use jetfrost_client::browse::Browser;
use jetfrost_client::orders::{Asked, give};
use jetfrost_client::salvage::Opening;
use jetfrost_image::OrderId;
use jetfrost_image::crypto::{Secret, StoreKey, StoreKeys, SystemRandom, seal_order};
use jetfrost_image::format::Order;
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::{Going, jetfrost, jetfrost_ends, start};
use jetfrost_wire::order::{NewOrder, OrderState, RestoreOrder};
use jetfrost_wire::people::Role;
use jetfrost_wire::restore::{Purpose, Restore, RestoreTarget};
use jetfrost_wire::service::{Maintenance, MaintenanceState, NewBackups};
use jetfrost_wire::{Binary, Page};
use jiff::{SignedDuration, Timestamp};

use crate::integrity::noise;

/// A workstation whose letter was overwritten after the backup.
fn furnished() -> (Office, Workstation) {
    let (office, station) = Office::with_station("dunlin");
    station.write("letters/offer.txt", "what it said yesterday");
    station.back_up().expect("a point");
    station.write("letters/offer.txt", "what it says today");
    (office, station)
}

fn agent(station: &Workstation) -> Going {
    let agent = start(jetfrost(station.home.directory()).args(["agent", "run"]));
    // By the time it says what it does, it can be asked.
    let _ = agent.line("what it does", |_| true);
    agent
}

fn id(station: &Workstation) -> String {
    station.home.membership().expect("joined").workstation
}

/// The image store as whoever unlocked it in the office has it.
fn unlocked(office: &Office, station: &Workstation) -> Browser {
    let workstation = office.api.get(&format!("/workstations/{}", id(station))).expect("there");
    let store = StoreAtService::new(office.api.clone(), &workstation);
    let keys = store.unlock(&Opening::Secret(Secret::Passphrase(PASSPHRASE))).expect("unlocked");
    store.browse(keys)
}

fn ordered(office: &Office, station: &Workstation, into: Option<PathBuf>) -> RestoreOrder {
    let asked = Asked { point: 1, paths: vec![station.folder.join("letters")], into };
    give(&unlocked(office, station), ADMINISTRATOR, asked).expect("given")
}

fn orders(office: &Office, station: &Workstation) -> Vec<RestoreOrder> {
    office.api.get::<Page<RestoreOrder>>(&format!("/workstations/{}/orders", id(station))).expect("listed").items
}

fn restores(office: &Office, station: &Workstation) -> Vec<Restore> {
    office.api.get::<Page<Restore>>(&format!("/workstations/{}/restores", id(station))).expect("listed").items
}

/// The order once it is in a state, or has ended.
fn once(office: &Office, station: &Workstation, order: &RestoreOrder, state: OrderState) -> RestoreOrder {
    let end = Instant::now() + Duration::from_secs(60);
    loop {
        let now = orders(office, station).into_iter().find(|one| one.id == order.id).expect("on record");
        if now.state == state || now.state.has_ended() {
            assert_eq!(now.state, state, "{now:?}");
            return now;
        }
        assert!(Instant::now() < end, "{now:?}");
        std::thread::yield_now();
    }
}

/// What the folder of a workstation has in it beside its letters, with what the letter in each says.
fn brought_back(folder: &std::path::Path) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).expect("listed").map(|entry| entry.expect("an entry")) {
        let name = entry.file_name().into_string().expect("text");
        if let Ok(letter) = fs::read_to_string(entry.path().join("offer.txt")) {
            found.push((name, letter));
        } else if entry.path().join("letters/offer.txt").exists() {
            found.push((name, fs::read_to_string(entry.path().join("letters/offer.txt")).expect("readable")));
        }
    }
    found.sort();
    found
}

#[test]
fn an_order_is_carried_out_beside_what_is_there_and_is_on_record_with_who_gave_it() {
    let (office, station) = furnished();
    let _agent = agent(&station);
    let order = ordered(&office, &station, None);
    assert_eq!((order.state, order.by.as_str()), (OrderState::Waiting, ADMINISTRATOR));
    let done = once(&office, &station, &order, OrderState::Done);
    assert!(done.sealed.is_none() && done.ended.is_some() && done.reason.is_none(), "{done:?}");
    let found = brought_back(&station.folder);
    let [(_, today), (beside, yesterday)] = &found[..] else { panic!("{found:?}") };
    assert_eq!((today.as_str(), yesterday.as_str()), ("what it says today", "what it said yesterday"));
    assert!(beside.starts_with("letters ("), "{beside}");
    let restore = restores(&office, &station).into_iter().find(|restore| Some(&restore.id) == done.restore.as_ref());
    let restore = restore.expect("on record");
    assert_eq!(
        (restore.by.as_str(), restore.purpose, restore.target),
        (ADMINISTRATOR, Purpose::Restore, Some(RestoreTarget::Beside))
    );
    assert_eq!((restore.progress.files_done, restore.exceptions), (1, 0));

    let into = ordered(&office, &station, Some(station.folder.clone()));
    once(&office, &station, &into, OrderState::Done);
    let found = brought_back(&station.folder);
    assert!(found.len() == 3 && found.iter().any(|(name, _)| name.starts_with("Restored ")), "{found:?}");
}

#[test]
fn a_service_that_lies_makes_no_order_changes_none_and_has_none_carried_out_twice() {
    let (office, station) = furnished();
    let membership = station.home.membership().expect("joined");
    let keys = station.home.keys(&membership).expect("kept");
    let order = |id: u8, into: Option<&str>| Order {
        id: OrderId([id; 16]),
        point: 1,
        paths: vec![station.folder.join("letters").to_str().expect("text").as_bytes().to_vec().into()],
        into: into.map(|into| into.as_bytes().to_vec().into()),
        login: ADMINISTRATOR.into(),
        session: "a session".into(),
        created: Timestamp::now().as_millisecond(),
        expires: (Timestamp::now() + SignedDuration::from_hours(1)).as_millisecond(),
    };
    let seal = |keys: &StoreKeys, order: &Order| Binary(seal_order(keys, order, &SystemRandom::default()));
    let path = format!("/workstations/{}/orders", id(&station));
    let send =
        |sealed: &Binary| office.api.post::<_, RestoreOrder>(&path, &NewOrder { sealed: sealed.clone() }).expect("carried");
    let _agent = agent(&station);
    let ends = |sealed: &Binary, state| once(&office, &station, &send(sealed), state).reason.unwrap_or_default();

    let sound = seal(&keys, &order(1, None));
    ends(&sound, OrderState::Done);
    let (before, on_record) = (brought_back(&station.folder), restores(&office, &station).len());
    // The same bytes again, and the same order sealed once more.
    ends(&sound, OrderState::Done);
    ends(&seal(&keys, &order(1, None)), OrderState::Done);
    // What it made itself, or altered.
    let forged = StoreKeys::derive(keys.store, &StoreKey([7; 32]));
    assert!(ends(&seal(&forged, &order(2, None)), OrderState::Declined).contains("store key"));
    let mut altered = seal(&keys, &order(3, None));
    altered.0[200] ^= 1;
    assert!(ends(&altered, OrderState::Declined).contains("store key"));
    // What it kept back for too long, and where nothing is backed up.
    let late = Order { created: 0, expires: 1, ..order(4, None) };
    assert!(ends(&seal(&keys, &late), OrderState::Declined).contains("time is over"));
    for (number, into) in [(5, "/etc"), (6, "/"), (7, "/tmp")] {
        let order = match into {
            "/" => {
                Order { paths: vec![station.folder.to_str().expect("text").as_bytes().to_vec().into()], ..order(number, None) }
            }
            into => order(number, Some(into)),
        };
        assert!(ends(&seal(&keys, &order), OrderState::Declined).contains("outside"), "{into}");
    }
    // Under another account's name than is in it.
    office.account("pelle", Role::Helpdesk);
    let by_pelle: RestoreOrder =
        office.signed_in("pelle").post(&path, &NewOrder { sealed: seal(&keys, &order(8, None)) }).expect("carried");
    assert!(once(&office, &station, &by_pelle, OrderState::Declined).reason.expect("why").contains("another account"));
    // A folder that is a link, to where there is one as well.
    std::os::unix::fs::symlink("/etc", station.folder.join("link")).expect("linked");
    let link = station.folder.join("link");
    ends(&seal(&keys, &order(9, link.to_str())), OrderState::Failed);
    assert!(
        !fs::read_dir("/etc").expect("listed").any(|entry| entry
            .expect("one")
            .file_name()
            .to_string_lossy()
            .starts_with("Restored"))
    );

    assert_eq!(
        (brought_back(&station.folder), restores(&office, &station).len()),
        (before, on_record),
        "nothing came of any of them"
    );
    let letter = fs::read_to_string(station.folder.join("letters/offer.txt")).expect("there");
    assert_eq!(letter, "what it says today");
}

#[test]
fn where_the_workstation_wants_to_be_asked_an_order_waits_for_its_person_and_ends_as_that_person_says() {
    let (office, station) = furnished();
    let home = station.home.directory();
    assert!(jetfrost_ends(home, &["order", "policy", "ask"], 0).out.contains("until somebody here accepts"));
    let _agent = agent(&station);
    let order = ordered(&office, &station, None);
    once(&office, &station, &order, OrderState::Asking);
    let list = jetfrost_ends(home, &["order", "list"], 0).out;
    assert!(list.contains(ADMINISTRATOR) && list.contains("letters") && list.contains("jetfrost order accept"), "{list}");
    let number = |list: &str| {
        list.split("jetfrost order accept ").nth(1).expect("named").split([',', ' ']).next().expect("one").to_owned()
    };
    assert_eq!(brought_back(&station.folder).len(), 1, "nothing was brought back yet");
    let said = jetfrost_ends(home, &["order", "accept", "00000000"], 1);
    assert!(said.err.contains("jetfrost order list"), "{}", said.err);
    let _ = jetfrost_ends(home, &["order", "accept", &number(&list)], 0);
    once(&office, &station, &order, OrderState::Done);
    assert_eq!(brought_back(&station.folder).len(), 2);

    let second = ordered(&office, &station, None);
    once(&office, &station, &second, OrderState::Asking);
    let list = jetfrost_ends(home, &["order", "list"], 0).out;
    let _ = jetfrost_ends(home, &["order", "decline", &number(&list)], 0);
    let declined = once(&office, &station, &second, OrderState::Declined);
    assert!(declined.reason.expect("why").contains("at the workstation"));
    let _ = jetfrost_ends(home, &["order", "policy", "decline"], 0);
    let third = ordered(&office, &station, None);
    assert!(once(&office, &station, &third, OrderState::Declined).reason.expect("why").contains("takes no orders"));
    assert_eq!(brought_back(&station.folder).len(), 2);
    // A record that a disk has damaged says nothing of what may be done: nothing is.
    fs::write(home.join("orders.json"), "{ \"policy\": \"carr").expect("written");
    let fourth = ordered(&office, &station, None);
    let end = Instant::now() + Duration::from_secs(30);
    while !jetfrost_ends(home, &["agent", "status"], 0).out.contains("orders.json") {
        assert!(Instant::now() < end, "the agent says why");
    }
    once(&office, &station, &fourth, OrderState::Waiting);
    assert_eq!(brought_back(&station.folder).len(), 2);
    // Whoever says anew what may be done gets it going again.
    let _ = jetfrost_ends(home, &["order", "policy", "carry-out"], 0);
    assert!(once(&office, &station, &fourth, OrderState::Done).restore.is_some());
}

#[test]
fn an_order_waits_while_an_administrator_keeps_restores_paused() {
    let (office, station) = furnished();
    let paused = Maintenance { backups: NewBackups::On, restores: false };
    let _: MaintenanceState = office.put("/maintenance", &paused).expect("paused");
    let order = ordered(&office, &station, None);
    let home = station.home.directory();
    let _agent = agent(&station);
    let end = Instant::now() + Duration::from_secs(30);
    while !jetfrost_ends(home, &["agent", "status"], 0).out.contains("are paused") {
        assert!(Instant::now() < end, "the agent says why");
    }
    once(&office, &station, &order, OrderState::Waiting);
    let _: MaintenanceState = office.put("/maintenance", &Maintenance { restores: true, ..paused }).expect("resumed");
    let _ = jetfrost_ends(home, &["order", "policy", "carry-out"], 0);
    once(&office, &station, &order, OrderState::Done);
}

#[test]
fn an_order_goes_on_after_its_agent_was_killed_and_nothing_is_there_twice() {
    let (office, station) = furnished();
    for i in 0..300 {
        station.write(&format!("letters/{i}.dat"), noise(&format!("letter {i}"), 200_000));
    }
    station.back_up().expect("a point");
    let first = agent(&station);
    let asked = Asked { point: 2, paths: vec![station.folder.join("letters")], into: None };
    let order = give(&unlocked(&office, &station), ADMINISTRATOR, asked).expect("given");
    let end = Instant::now() + Duration::from_secs(60);
    while orders(&office, &station).iter().any(|one| one.state == OrderState::Waiting) {
        assert!(Instant::now() < end, "it is taken up");
    }
    drop(first);
    let _second = agent(&station);
    once(&office, &station, &order, OrderState::Done);
    let mut folders: Vec<_> =
        fs::read_dir(&station.folder).expect("listed").map(|entry| entry.expect("an entry").path()).collect();
    folders.retain(|path| path.is_dir());
    folders.sort();
    let [letters, beside] = &folders[..] else { panic!("{folders:?}") };
    let names = |folder: &std::path::Path| fs::read_dir(folder).expect("listed").count();
    assert_eq!((names(letters), names(beside)), (301, 301));
    for i in 0..300 {
        let name = format!("{i}.dat");
        assert_eq!(fs::read(letters.join(&name)).expect("there"), fs::read(beside.join(&name)).expect("restored"), "{name}");
    }
}

#[test]
fn what_was_withdrawn_before_the_agent_ran_is_not_carried_out_and_what_waited_is() {
    let (office, station) = furnished();
    let (withdrawn, waits) = (ordered(&office, &station, None), ordered(&office, &station, None));
    let gone: RestoreOrder = office.api.post(&format!("/orders/{}/withdrawal", withdrawn.id), &()).expect("withdrawn");
    assert_eq!((gone.state, gone.reason.as_deref()), (OrderState::Withdrawn, Some("ingrid withdrew it.")));
    let _agent = agent(&station);
    once(&office, &station, &waits, OrderState::Done);
    assert_eq!(orders(&office, &station).iter().filter(|order| order.restore.is_some()).count(), 1);
    assert_eq!(brought_back(&station.folder).len(), 2);
}
