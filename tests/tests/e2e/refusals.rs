//! What must be refused, clearly, with nothing lost.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use jetfrost_client::api::Api;
use jetfrost_client::browse::At;
use jetfrost_client::join::{FirstWays, join};
use jetfrost_client::kept_key::KeyPlace;
use jetfrost_client::restore::{Rights, Target, Trouble, Wish};
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::unlock;
use jetfrost_client::{ClientError, Secret};
use jetfrost_image::crypto::SystemRandom;
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSPHRASE, PASSWORD};
use jetfrost_wire::destination::{CheckDirectory, Fitness, NewDestination, Verdict};
use jetfrost_wire::people::Role;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::service::{Carry, SignIn, SignedIn};
use jiff::{SignedDuration, Timestamp};

fn kind(error: &ClientError) -> Option<ProblemKind> {
    match error {
        ClientError::Refused(problem) => problem.known_kind(),
        _ => None,
    }
}

fn call(login: &str, password: &str) -> SignIn {
    SignIn { login: login.into(), password: password.into(), code: None, carry: Carry::Token, label: None }
}

fn anonymous(office: &Office) -> Api {
    Api::new(&office.address(), Some(&office.fingerprint())).expect("a service")
}

#[test]
fn a_wrong_password_says_the_same_as_a_wrong_name_and_patience_ends() {
    let (office, clock) = Office::stepped("2026-11-23T08:00:00Z".parse().expect("a time"));
    let api = anonymous(&office);
    let refused =
        |login: &str| api.post::<_, SignedIn>("/sessions", &call(login, "not the password")).map(drop).expect_err("refused");
    let (ClientError::Refused(known), ClientError::Refused(unknown)) = (refused(ADMINISTRATOR), refused("nobody")) else {
        panic!("another error")
    };
    assert_eq!(known, unknown);
    assert!(known.next_step.contains("the account's password"));
    for _ in 0..7 {
        refused(ADMINISTRATOR);
    }
    assert_eq!(kind(&refused(ADMINISTRATOR)), Some(ProblemKind::TooManyAttempts));
    let right = || api.post::<_, SignedIn>("/sessions", &call("INGRID", PASSWORD));
    assert_eq!(right().err().as_ref().and_then(kind), Some(ProblemKind::TooManyAttempts), "the right one waits, too");
    clock.set("2026-11-23T09:30:00Z".parse().expect("a time"));
    assert!(right().is_ok(), "letter case of the name does not matter");
}

#[test]
fn a_wrong_image_passphrase_opens_nothing_and_says_which_secret_is_meant() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    assert!(matches!(unlock(&station.home, Secret::Passphrase(PASSWORD)), Err(ClientError::WrongPassphrase)));
    assert!(!unlock(&station.home, Secret::Passphrase(PASSPHRASE)).expect("it opens"), "the key was not lost");
    station.write("a", "precious");
    station.back_up().expect("backed up");
    fs::remove_file(station.home.directory().join("store-key")).expect("lost");
    assert!(matches!(station.restore_all(&office.path("back")), Err(ClientError::StoreKey(_))));
    assert!(unlock(&station.home, Secret::RecoveryKey(&station.recovery_key)).expect("it opens"), "the key was lost");
    // A disk that flips a bit of the key leaves what looks like one: nothing is made with it, and the secret puts it right.
    station.home.move_key(KeyPlace::File).expect("moved");
    let file = station.home.directory().join("store-key");
    let kept = fs::read_to_string(&file).expect("there");
    let at = kept.find("\"key\": \"").expect("a key") + 8;
    let flipped = if kept.as_bytes()[at] == b'0' { "1" } else { "0" };
    fs::write(&file, format!("{}{flipped}{}", &kept[..at], &kept[at + 1..])).expect("flipped");
    assert!(matches!(station.back_up(), Err(ClientError::StoreKey(_))));
    assert!(unlock(&station.home, Secret::Passphrase(PASSPHRASE)).expect("it opens"), "the key was lost");
    station.restore_all(&office.path("back")).expect("restored");
}

#[test]
fn an_expired_or_cancelled_or_invented_code_makes_no_workstation() {
    let (office, clock) = Office::stepped("2026-11-23T08:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    office.account("tove", Role::Member);
    let try_to_join = |invitation| {
        join(&StateDir::new(office.path("new")), &invitation, "new", &FirstWays::passphrase(PASSPHRASE), &SystemRandom::default())
            .map(drop)
    };
    let detail = |error: ClientError| match error {
        ClientError::Refused(problem) => problem.title,
        other => other.to_string(),
    };
    let cancelled = office.code("tove");
    let codes: Vec<jetfrost_wire::enrolment::EnrolmentCode> = office.api.list("/enrolment-codes").expect("listed");
    let _: jetfrost_wire::enrolment::EnrolmentCode = office
        .api
        .send(jetfrost_client::api::Method::DELETE, &format!("/enrolment-codes/{}", codes[0].id), &())
        .expect("cancelled");
    assert_eq!(detail(try_to_join(cancelled).expect_err("refused")), "This enrolment code was cancelled.");
    let expired = office.code("tove");
    clock.set("2026-11-25T09:00:00Z".parse().expect("a time"));
    assert_eq!(detail(try_to_join(expired.clone()).expect_err("refused")), "This enrolment code has expired.");
    let invented = jetfrost_wire::enrolment::Invitation { secret: [1; 10], ..expired };
    assert_eq!(detail(try_to_join(invented).expect_err("refused")), "This enrolment code was not made by this service.");
    assert!(!office.path("new/workstation.json").exists());
}

#[test]
fn another_services_certificate_is_not_trusted_even_at_the_same_address() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("a", "1");
    let other = Office::open();
    let path = station.home.directory().join("workstation.json");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, text.replace(&office.address(), &other.address())).expect("written");
    let error = station.back_up().expect_err("refused");
    assert!(matches!(error, ClientError::OtherCertificate { .. }), "{error}");
    fs::write(&path, text).expect("written");
    station.back_up().expect("its own service is still trusted");
}

#[test]
fn a_full_destination_in_the_middle_of_a_run_loses_nothing() {
    let office = Office::open();
    let destination = office.path("small");
    office.destination_at("small", &destination, Some(40_000_000));
    let station = office.workstation("knot");
    station.write("a", "the first point");
    station.back_up().expect("backed up");
    for i in 0..60_u8 {
        station.write(&format!("photo {i:02}"), blake(i, 1_000_000));
    }
    let error = station.back_up().expect_err("no room");
    assert_eq!(kind(&error), Some(ProblemKind::NoRoom));
    let ClientError::Refused(problem) = error else { panic!("another error") };
    assert!(problem.title.contains("the capacity of destination 'small'"), "{}", problem.title);
    assert!(problem.detail.expect("numbers").contains("of 40.0 MB used"));
    let wish = Wish::paths(vec![station.folder.join("a")], Target::Into(office.path("back"))).rights(Rights::Keep);
    station.restore(&At::Latest, &wish).expect("the earlier point is whole");
    // The first ten in order are among what had arrived.
    for i in 10..60 {
        fs::remove_file(station.folder.join(format!("photo {i:02}"))).expect("removed");
    }
    let report = station.back_up().expect("there is room for this");
    assert!(report.sent < 1_000_000, "what had arrived was kept: {} were sent", report.sent);
}

/// Bytes that do not compress.
fn blake(seed: u8, len: usize) -> Vec<u8> {
    use jetfrost_image::crypto::{Random, SeededRandom};
    let mut bytes = vec![0; len];
    SeededRandom::new(&[seed]).fill(&mut bytes);
    bytes
}

#[test]
#[cfg_attr(no_mounts, ignore = "needs to mount volumes: run it as root")]
fn a_volume_that_is_really_full_says_so_and_loses_nothing() {
    let office = Office::open();
    let volume = Mounted::new(&office.path("volume"), "30m");
    office.destination_at("small", &volume.path.join("backups"), None);
    let station = office.workstation("knot");
    station.write("a", "the first point");
    station.back_up().expect("backed up");
    // Somebody else fills the volume between the service's look and its write.
    for i in 0..40_u8 {
        station.write(&format!("photo {i}"), blake(i, 1_000_000));
    }
    fs::write(volume.path.join("somebody else's"), vec![1; 24_000_000]).expect("written");
    let error = station.back_up().expect_err("no room");
    assert_eq!(kind(&error), Some(ProblemKind::NoRoom), "{error}");
    let wish = Wish::paths(vec![station.folder.join("a")], Target::Into(office.path("back"))).rights(Rights::Keep);
    station.restore(&At::Latest, &wish).expect("the earlier point is whole");
}

#[test]
fn an_unmounted_volume_is_missing_and_is_not_filled_in_its_stead() {
    let mut office = Office::open();
    let volume = office.path("volume");
    office.destination_at("away", &volume, None);
    let station = office.workstation("knot");
    station.write("a", "1");
    station.back_up().expect("backed up");
    let elsewhere = office.path("unmounted");
    fs::rename(&volume, &elsewhere).expect("unmounted");
    fs::create_dir(&volume).expect("the empty mount point");
    let error = station.back_up().expect_err("missing");
    assert_eq!(kind(&error), Some(ProblemKind::DestinationMissing), "{error}");
    assert_eq!(fs::read_dir(&volume).expect("there").count(), 0, "nothing was written to the mount point");
    office.restart();
    let error = station.back_up().expect_err("missing after a restart, too");
    assert_eq!(kind(&error), Some(ProblemKind::DestinationMissing), "{error}");
    fs::remove_dir(&volume).expect("removed");
    fs::rename(&elsewhere, &volume).expect("mounted again");
    station.back_up().expect("it goes on without more ado");
}

#[test]
fn a_volume_that_goes_away_during_a_run_ends_it_and_nothing_is_written_in_its_stead() {
    let office = Office::open();
    let volume = office.path("volume");
    office.destination_at("away", &volume, None);
    let station = office.workstation("knot");
    for i in 0..120_u8 {
        station.write(&format!("photo {i}"), blake(i, 1_000_000));
    }
    let error = std::thread::scope(|scope| {
        let running = scope.spawn(|| station.back_up());
        let has_segments = || glob(&volume.join("stores"), "seg").len() > 1;
        while !has_segments() && !running.is_finished() {
            std::thread::yield_now();
        }
        fs::rename(&volume, office.path("gone")).expect("it goes away");
        fs::create_dir(&volume).expect("the empty mount point");
        running.join().expect("no panic")
    });
    assert_eq!(error.as_ref().err().and_then(kind), Some(ProblemKind::DestinationMissing), "{error:?}");
    assert_eq!(fs::read_dir(&volume).expect("there").count(), 0, "nothing was written to the mount point");
}

/// Files below a directory with an extension.
pub(crate) fn glob(directory: &Path, extension: &str) -> Vec<PathBuf> {
    let entries =
        fs::read_dir(directory).map(|d| d.filter_map(Result::ok).map(|e| e.path()).collect::<Vec<_>>()).unwrap_or_default();
    let below = entries.into_iter().flat_map(|p| if p.is_dir() { glob(&p, extension) } else { vec![p] });
    below.filter(|p| p.extension().is_some_and(|e| e == extension)).collect()
}

#[test]
fn a_flipped_bit_names_the_files_it_touches_and_the_rest_comes_back() {
    let office = Office::open();
    let shelf = office.path("shelf");
    office.destination("shelf");
    let station = office.workstation("knot");
    for i in 0..20_u8 {
        station.write(&format!("photo {i:02}"), blake(i, 200_000));
    }
    station.back_up().expect("backed up");
    let segment = glob(&shelf, "seg").into_iter().max_by_key(|p| fs::metadata(p).map_or(0, |m| m.len())).expect("a segment");
    let mut bytes = fs::read(&segment).expect("read");
    bytes[1_000_000] ^= 1;
    fs::write(&segment, bytes).expect("written");
    let back = office.path("back");
    let report = station.restore_all(&back).expect("restored");
    let damaged: Vec<_> = report.troubles.iter().filter(|t| t.trouble == Trouble::Damaged).collect();
    assert_eq!((damaged.len(), report.troubles.len()), (1, 1), "{:?}", report.troubles);
    let restored = station.restored(&back);
    assert!(damaged[0].path.starts_with(&restored), "{:?}", damaged[0].path);
    assert!(!damaged[0].path.exists(), "never silent data");
    let names: Vec<_> = fs::read_dir(&restored).expect("there").filter_map(Result::ok).map(|e| e.file_name()).collect();
    assert_eq!(names.len(), 19, "and nothing half-written beside them: {names:?}");
    for name in names {
        assert_eq!(fs::read(restored.join(&name)).expect("there"), fs::read(station.folder.join(&name)).expect("there"));
    }
}

#[test]
fn a_point_of_an_unknown_version_is_refused_by_name() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("a", "1");
    station.back_up().expect("backed up");
    let point = glob(&office.path("shelf"), "point").pop().expect("a point");
    let mut bytes = fs::read(&point).expect("read");
    bytes[8] = 2;
    fs::write(&point, bytes).expect("written");
    // Written by a later service, and so without the receipt of this one.
    fs::remove_file(glob(&office.path("shelf"), "receipt").pop().expect("a receipt")).expect("removed");
    let error = station.restore_all(&office.path("back")).expect_err("refused");
    assert!(error.to_string().contains("format version 2"), "{error}");
}

/// Makes what the service knows of a store what it was before its second point, as a copy of disk and records from then is.
pub(crate) fn set_back(office: &mut Office) {
    let points = glob(&office.path("shelf"), "point");
    fs::remove_file(points.iter().max().expect("two points")).expect("set back");
    let receipts = glob(&office.path("shelf"), "receipt");
    fs::remove_file(receipts.iter().max().expect("two receipts")).expect("set back");
    // The records, too: with them the service would know that the point is lost, and say so.
    office.stop();
    let statement = "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute('DELETE FROM points WHERE sequence = 2'); \
                     c.execute('UPDATE stores SET latest_sequence = 1, points = 1'); c.commit()";
    let records = office.path("state/records.sqlite");
    assert!(Command::new("python3").args(["-c", statement]).arg(records).status().expect("python3 runs").success());
    office.start();
}

#[test]
fn a_service_that_went_back_in_time_is_noticed() {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("a", "1");
    station.back_up().expect("backed up");
    station.write("a", "2");
    station.back_up().expect("backed up");
    set_back(&mut office);
    let error = station.back_up().expect_err("refused");
    assert!(matches!(error, ClientError::RolledBack { shown: 1, seen: 2 }), "{error}");
}

#[test]
fn a_directory_that_does_not_do_says_why() {
    let office = Office::open();
    office.destination("shelf");
    let try_it = |directory: PathBuf| -> Verdict {
        office.api.post("/destinations/check", &CheckDirectory { directory: directory.display().to_string() }).expect("a verdict")
    };
    fs::write(office.path("file"), "x").expect("written");
    fs::create_dir_all(office.path("shelf/inner")).expect("made");
    let foreign = Office::open();
    foreign.destination_at("theirs", &office.path("theirs"), None);
    for (directory, why) in [
        (office.path("file"), "not a directory"),
        (office.path("shelf"), "already"),
        (office.path("shelf/inner"), "inside the destination"),
        (office.path("theirs"), "another installation"),
        (office.path("none/at/all"), "no directory above it"),
        (PathBuf::from("/proc"), "keeps no files"),
    ] {
        let verdict = try_it(directory.clone());
        assert!(
            verdict.fitness == Fitness::Unfit && verdict.reasons.join(" ").contains(why),
            "{}: {:?}",
            directory.display(),
            verdict.reasons
        );
        let new = NewDestination { name: "n".into(), directory: directory.display().to_string(), ..NewDestination::default() };
        let added = office.api.post::<_, serde_json::Value>("/destinations", &new);
        assert_eq!(added.err().as_ref().and_then(kind), Some(ProblemKind::UnfitDirectory), "{}", directory.display());
    }
}

#[test]
fn silent_runs_are_lost_after_a_while() {
    let start: Timestamp = "2026-11-23T08:00:00Z".parse().expect("a time");
    let (office, clock) = Office::stepped(start);
    office.destination("shelf");
    let station = office.workstation("knot");
    let (membership, api) = station.home.device_api().expect("joined");
    let begin = serde_json::json!({ "kind": "files", "client_version": "0" });
    let _: serde_json::Value = api.post(&format!("/workstations/{}/runs", membership.workstation), &begin).expect("begun");
    let outcome = || {
        let runs: Vec<jetfrost_wire::run::Run> =
            api.list(&format!("/workstations/{}/runs", membership.workstation)).expect("listed");
        runs[0].outcome.word()
    };
    assert_eq!(outcome(), "underway");
    clock.set(start + SignedDuration::from_mins(11));
    assert_eq!(outcome(), "lost");
}

#[test]
fn names_of_files_reach_the_destination_in_no_form() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("a very telling name.odt", "a very telling content, long enough to be found again");
    station.back_up().expect("backed up");
    let needles: [&[u8]; 3] = [b"telling name", b"telling content", station.folder.as_os_str().as_bytes()];
    for root in [office.path("shelf"), office.path("state")] {
        for file in all_files(&root) {
            let bytes = fs::read(&file).unwrap_or_default();
            for needle in needles {
                assert!(!bytes.windows(needle.len()).any(|w| w == needle), "{} tells", file.display());
            }
        }
    }
}

fn all_files(directory: &Path) -> Vec<PathBuf> {
    let entries =
        fs::read_dir(directory).map(|d| d.filter_map(Result::ok).map(|e| e.path()).collect::<Vec<_>>()).unwrap_or_default();
    entries.into_iter().flat_map(|p| if p.is_dir() { all_files(&p) } else { vec![p] }).collect()
}
