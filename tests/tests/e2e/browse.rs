//! Browsing and restoring in the console: the key stays in the browser, the service sends sealed chunks.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use data_encoding::{BASE64, HEXLOWER};
use jetfrost_client::unlock_methods::{entrust, new_office_key};
use jetfrost_image::crypto::{Secret, StoreKey, SystemRandom, unwrap_key};
use jetfrost_image::format::{ArgonCost, Slot, SlotKind};
use jetfrost_tests::browser::Browser;
use jetfrost_tests::office::{Office, PASSPHRASE, PASSWORD, Workstation};
use jetfrost_tests::programs::{jetfrost, start};
use jetfrost_tests::tap::Tap;
use jetfrost_wire::Page;
use jetfrost_wire::people::Role;
use jetfrost_wire::restore::{Purpose, Restore};
use jetfrost_wire::run::Outcome;
use tokio::runtime::Runtime;
use tokio::task::block_in_place;

use crate::integrity::noise;

/// Signs in at an address of the service, and opens the page on which a workstation is browsed.
async fn open(address: &str, login: &str, station: &Workstation) -> Browser {
    let browser = Browser::open().await;
    let id = station.home.membership().expect("joined").workstation;
    browser.driver.goto(format!("{address}/workstations/{id}/browse")).await.expect("the page opens");
    browser.fill("login", login).await;
    browser.fill("password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.sees("Unlock in this browser").await;
    browser
}

async fn unlock(browser: &Browser) {
    browser.fill_in_form("Unlock", "Image passphrase of dunlin", PASSPHRASE).await;
    browser.press("Unlock").await;
    browser.sees("as of").await;
}

/// An office key that the person of a workstation has agreed to, in a file.
fn entrusted(office: &Office, station: &Workstation) -> PathBuf {
    let (public, file) = new_office_key("in the blue safe", ArgonCost::USUAL, &SystemRandom::default());
    let key_file = office.path("office.key");
    fs::write(&key_file, file.to_bytes()).expect("written");
    entrust(&station.home, &public, &SystemRandom::default()).expect("agreed");
    key_file
}

async fn unlock_with_office_key(browser: &Browser, key_file: &Path) {
    browser.choose("Office key").await;
    browser.choose_file("Unlock", "File of the office key", key_file).await;
    browser.fill_in_form("Unlock", "Passphrase of that file", "in the blue safe").await;
    browser.press("Unlock").await;
    browser.sees("as of").await;
}

async fn lock(browser: &Browser) {
    browser.press("Lock").await;
    browser.sees("Unlock in this browser").await;
}

/// Lets the browser save downloads in a directory, by way of a page's own storage, as browsers do that do not ask where to.
async fn download_into(browser: &Browser, directory: &Path) {
    let how = serde_json::json!({ "behavior": "allow", "downloadPath": directory });
    browser.driver.cdp().send_raw("Page.setDownloadBehavior", how).await.expect("set");
    browser
        .driver
        .execute("delete window.showSaveFilePicker; delete Window.prototype.showSaveFilePicker", vec![])
        .await
        .expect("gone");
}

/// The only file in a directory, once it is whole.
fn downloaded(directory: &Path) -> PathBuf {
    let began = Instant::now();
    loop {
        let files: Vec<_> = fs::read_dir(directory).expect("readable").map(|entry| entry.expect("an entry").path()).collect();
        match &files[..] {
            [file] if file.extension().is_none_or(|e| e != "crdownload") => return file.clone(),
            _ if began.elapsed() > Duration::from_secs(20) => panic!("nothing was downloaded: {files:?}"),
            _ => std::thread::yield_now(),
        }
    }
}

/// What is on record once nothing is under way any more: the page sends the end of it when it is locked, and waits for no answer.
fn ended(office: &Office, station: &Workstation) -> Vec<Restore> {
    let began = Instant::now();
    loop {
        let records = restores(office, station);
        if records.iter().all(|record| record.outcome != Outcome::Underway) {
            return records;
        }
        assert!(began.elapsed() < Duration::from_secs(20), "it does not end: {records:?}");
        std::thread::yield_now();
    }
}

fn restores(office: &Office, station: &Workstation) -> Vec<Restore> {
    let id = station.home.membership().expect("joined").workstation;
    office.api.get::<Page<Restore>>(&format!("/workstations/{id}/restores")).expect("listed").items
}

/// The key of the only store at `shelf`.
fn store_key(office: &Office) -> StoreKey {
    let store = fs::read_dir(office.path("shelf").join("stores")).expect("readable").next().expect("a store").expect("an entry");
    let slots = fs::read_dir(store.path().join("slots")).expect("readable");
    let read = slots.map(|slot| Slot::from_bytes(&fs::read(slot.expect("an entry").path()).expect("readable")).expect("a slot"));
    let by_passphrase = read.into_iter().find(|slot| slot.kind == SlotKind::Passphrase).expect("a passphrase");
    unwrap_key(&by_passphrase, Secret::Passphrase(PASSPHRASE)).expect("it opens")
}

#[test]
fn a_person_downloads_yesterdays_version_and_what_was_sent_holds_no_secret_no_key_and_no_name() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("dunlin");
    let yesterday = "what it said yesterday ".repeat(30_000);
    station.write("letters/offer to the harbour.txt", &yesterday);
    station.back_up().expect("a point");
    station.write("letters/offer to the harbour.txt", "what it says today");
    station.back_up().expect("a point");
    let downloads = office.path("downloads");
    fs::create_dir(&downloads).expect("a directory");

    let heard = Runtime::new().expect("a runtime").block_on(async {
        let tap = Tap::before(office.port()).await;
        let browser = open(&tap.address, "owner of dunlin", &station).await;
        assert_eq!(browser.violations().await, Vec::<String>::new(), "locked");
        browser.fill_in_form("Unlock", "Image passphrase of dunlin", "not the image passphrase").await;
        browser.press("Unlock").await;
        browser.sees("This is not the image passphrase of this workstation.").await;
        unlock(&browser).await;
        browser.press("letters/").await;
        browser.press("offer to the harbour.txt").await;
        browser.sees("what it says today").await;
        browser.press("All versions").await;
        browser.sees("2 versions").await;
        assert_eq!(browser.violations().await, Vec::<String>::new(), "unlocked");
        // The folder and the file are where they were in the point of yesterday.
        browser.press_about("point 1").await;
        browser.press("offer to the harbour.txt").await;
        browser.sees("what it said yesterday").await;
        download_into(&browser, &downloads).await;
        browser.press("Download").await;
        browser.sees("each piece checked").await;
        let file = block_in_place(|| downloaded(&downloads));
        assert_eq!(file.file_name().and_then(|name| name.to_str()), Some("offer to the harbour.txt"));
        assert_eq!(fs::read_to_string(&file).expect("readable"), yesterday);
        lock(&browser).await;
        let heard = tap.heard();
        browser.close().await;
        heard
    });

    let key = store_key(&office).0;
    let secrets = [PASSPHRASE.as_bytes().to_vec(), key.to_vec(), HEXLOWER.encode(&key).into(), BASE64.encode(&key).into()];
    let names = ["letters", "harbour", "dunlin-files"].map(|name| name.as_bytes().to_vec());
    let holds = |what: &[u8]| heard.windows(what.len()).any(|window| window == what);
    assert!(holds(b"/chunks/fetch") && holds(PASSWORD.as_bytes()), "it hears what is sent");
    for what in secrets.iter().chain(&names) {
        assert!(!holds(what), "{} was sent", what.escape_ascii());
    }
    let records = ended(&office, &station);
    let told: Vec<_> = records.iter().map(|record| (record.point, record.purpose, record.by.as_str(), record.outcome)).collect();
    let browsed = |point| (point, Purpose::Browse, "owner of dunlin", Outcome::Complete);
    assert_eq!(told, [browsed(1), browsed(2)]);
    assert!(records[0].progress.bytes_done >= yesterday.len() as u64 && records[0].origin.is_some(), "{:?}", records[0]);
}

#[test]
fn the_helpdesk_finds_a_file_by_name_and_gives_a_folder_back_with_the_office_key() {
    let office = Office::open();
    office.destination("shelf");
    office.account("pelle", Role::Helpdesk);
    let station = office.workstation("dunlin");
    let key_file = entrusted(&office, &station);
    station.write("plans/quay.dwg", noise("quay", 3 << 20));
    station.write("plans/old/pier.txt", "piles of oak");
    station.write("plans/empty.txt", "");
    station.back_up().expect("a point");
    let downloads = office.path("downloads");
    fs::create_dir(&downloads).expect("a directory");

    let zip = Runtime::new().expect("a runtime").block_on(async {
        let browser = open(&format!("https://{}", office.address()), "pelle", &station).await;
        unlock_with_office_key(&browser, &key_file).await;
        browser.fill_in_form("Search", "Search for a name", "PIER").await;
        browser.press("Search").await;
        browser.press("pier.txt").await;
        browser.sees("piles of oak").await;
        browser.press("plans").await;
        for name in ["old", "quay.dwg", "empty.txt"] {
            browser.tick(&format!("Select {name}")).await;
        }
        download_into(&browser, &downloads).await;
        browser.press("Download 3 as zip").await;
        browser.sees("3 files").await;
        let zip = block_in_place(|| downloaded(&downloads));
        lock(&browser).await;
        browser.close().await;
        zip
    });
    let (into, original) = (office.path("unpacked"), station.folder.join("plans"));
    let unzipped =
        Command::new("unzip").arg("-q").arg(&zip).arg("-d").arg(&into).status().expect("unzip is installed (make test does it)");
    assert!(unzipped.success());
    for name in ["quay.dwg", "old/pier.txt", "empty.txt"] {
        assert_eq!(fs::read(into.join(name)).expect("there"), fs::read(original.join(name)).expect("there"), "{name}");
    }
    let [record] = &ended(&office, &station)[..] else { panic!("one point was browsed") };
    // The zip, and the preview of one of its files.
    assert_eq!((record.by.as_str(), record.progress.files_done, record.exceptions), ("pelle", 4, 0));
}

#[test]
fn what_the_helpdesk_orders_in_the_browser_is_restored_by_the_machine_and_no_name_was_sent() {
    let office = Office::open();
    office.destination("shelf");
    office.account("pelle", Role::Helpdesk);
    let station = office.workstation("dunlin");
    let key_file = entrusted(&office, &station);
    station.write("plans/quay.dwg", noise("quay", 3 << 20));
    station.write("plans/old/pier.txt", "piles of oak");
    station.back_up().expect("a point");
    let before = fs::read(station.folder.join("plans/quay.dwg")).expect("there");
    fs::remove_dir_all(station.folder.join("plans")).expect("lost");

    let heard = Runtime::new().expect("a runtime").block_on(async {
        let tap = Tap::before(office.port()).await;
        let browser = open(&tap.address, "pelle", &station).await;
        unlock_with_office_key(&browser, &key_file).await;
        browser.tick("Select plans").await;
        browser.press("Restore on the machine…").await;
        browser.sees("Nothing that is there is replaced.").await;
        browser.choose("into a new folder in a folder that I name").await;
        assert_eq!(browser.violations().await, Vec::<String>::new(), "the form");
        // Where nothing is backed up the machine says no, and why.
        browser.fill_in_form("Order", "Folder on dunlin", "/etc").await;
        browser.press("Order").await;
        browser.sees("waits for the workstation, until").await;
        let _agent = start(jetfrost(station.home.directory()).args(["agent", "run"]));
        browser.sees("was declined. It would put something outside").await;
        browser.press("Restore on the machine…").await;
        browser.choose("into a new folder in a folder that I name").await;
        browser.fill_in_form("Order", "Folder on dunlin", station.folder.to_str().expect("text")).await;
        browser.press("Order").await;
        browser.sees("is restored.").await;
        assert_eq!(browser.violations().await, Vec::<String>::new(), "with what became of it");
        lock(&browser).await;
        let heard = tap.heard();
        browser.close().await;
        heard
    });
    let own = fs::read_dir(&station.folder).expect("listed").map(|entry| entry.expect("an entry").path());
    let own = own.into_iter().find(|path| path.to_string_lossy().contains("/Restored ")).expect("a folder of its own");
    assert_eq!(fs::read(own.join("plans/quay.dwg")).expect("restored"), before);
    assert_eq!(fs::read_to_string(own.join("plans/old/pier.txt")).expect("restored"), "piles of oak");
    let holds = |what: &[u8]| heard.windows(what.len()).any(|window| window == what);
    assert!(holds(b"/orders"), "it hears what is sent");
    for name in ["plans", "quay", "dunlin-files", "/etc", "in the blue safe"] {
        assert!(!holds(name.as_bytes()), "{name} was sent");
    }
    let by_order = ended(&office, &station).into_iter().find(|record| record.purpose == Purpose::Restore).expect("on record");
    assert_eq!((by_order.by.as_str(), by_order.progress.files_done), ("pelle", 2));
}

#[test]
fn a_damaged_file_is_named_and_costs_nothing_else_in_the_browser() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("dunlin");
    station.write("survey.bin", noise("survey", 9 << 20));
    station.write("notes.txt", "the mast leans");
    station.back_up().expect("a point");
    damage_content(&office);

    Runtime::new().expect("a runtime").block_on(async {
        let browser = open(&format!("https://{}", office.address()), "ingrid", &station).await;
        unlock(&browser).await;
        let downloads = office.path("downloads");
        fs::create_dir(&downloads).expect("a directory");
        download_into(&browser, &downloads).await;
        browser.press("survey.bin").await;
        browser.sees("modified").await;
        browser.press("Download").await;
        browser.sees("survey.bin cannot be read here: a chunk is damaged").await;
        assert_eq!(fs::read_dir(&downloads).expect("readable").count(), 0, "half a file is none");
        for name in ["notes.txt", "survey.bin"] {
            browser.tick(&format!("Select {name}")).await;
        }
        browser.press("Download 2 as zip").await;
        browser.sees("1 item could not be restored exactly").await;
        browser.sees("survey.bin: the last").await;
        let zip = block_in_place(|| downloaded(&downloads));
        let listed = Command::new("unzip")
            .arg("-p")
            .arg(&zip)
            .args(["notes.txt", "not restored exactly.txt"])
            .output()
            .expect("unzip runs");
        let text = String::from_utf8_lossy(&listed.stdout).into_owned();
        assert!(text.starts_with("the mast leans") && text.contains("survey.bin: the last"), "{text}");
        lock(&browser).await;
        browser.close().await;
    });
    let [record] = &ended(&office, &station)[..] else { panic!("one point was browsed") };
    assert_eq!((record.outcome, record.exceptions), (Outcome::CompleteWithExceptions, 2), "by itself, and in the archive");
}

/// Flips a bit in the middle of the largest segment: of content, not of a listing.
fn damage_content(office: &Office) {
    let segment = crate::integrity::largest_segment(office);
    let mut bytes = fs::read(&segment).expect("readable");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&segment, bytes).expect("written");
}

#[test]
fn who_is_cancelled_from_the_workstations_page_is_locked_out_at_once() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("dunlin");
    station.write("notes.txt", "the mast leans");
    station.back_up().expect("a point");

    Runtime::new().expect("a runtime").block_on(async {
        let browser = open(&format!("https://{}", office.address()), "owner of dunlin", &station).await;
        unlock(&browser).await;
        let [record] = &block_in_place(|| restores(&office, &station))[..] else {
            panic!("it is on record from its first moment")
        };
        let path = format!("/restores/{}/cancellation", record.id);
        let cancelled: Restore = block_in_place(|| office.api.post(&path, &())).expect("cancelled");
        assert_eq!(cancelled.cancelled_by.as_deref(), Some("ingrid"));
        browser.sees("ingrid ended this on the workstation").await;
        browser.sees("Unlock in this browser").await;
        browser.close().await;
    });
    let [record] = &ended(&office, &station)[..] else { panic!("one point was browsed") };
    assert_eq!(record.cancelled_by.as_deref(), Some("ingrid"));
}
