//! The console in a headless browser, against the real service: a test for each thing that a person comes for.

use std::fs;

use jetfrost_client::api::Method;
use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_tests::browser::Browser;
use jetfrost_tests::office::{Office, PASSWORD};
use jetfrost_tests::programs::Daemon;
use jetfrost_tests::work::{Home, Incident};
use jetfrost_types::Limit;
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{Destination, DestinationChange};
use jetfrost_wire::people::Role;
use thirtyfour::{By, Key, TypingData};
use tokio::runtime::Runtime;
use tokio::task::block_in_place;

/// No violation of WCAG 2.2 AA, in light and in dark colours.
async fn assert_accessible(browser: &Browser, page: &str) {
    assert_eq!(browser.violations().await, Vec::<String>::new(), "{page}");
    browser.driver.execute("document.documentElement.dataset.bsTheme = 'dark'", vec![]).await.expect("dark");
    assert_eq!(browser.violations().await, Vec::<String>::new(), "{page}, dark");
    browser.driver.execute("document.documentElement.dataset.bsTheme = 'light'", vec![]).await.expect("light");
}

async fn sign_in(browser: &Browser, password: &str) {
    browser.fill("login", "ingrid").await;
    browser.fill("password", password).await;
    browser.press("Sign in").await;
}

/// A page of the console, with the administrator signed in.
fn on_page(office: &Office, page: &str, visit: impl AsyncFnOnce(&Browser)) {
    Runtime::new().expect("a runtime").block_on(async {
        let browser = Browser::open().await;
        browser.driver.goto(format!("https://{}{page}", office.address())).await.expect("the page opens");
        sign_in(&browser, PASSWORD).await;
        visit(&browser).await;
        browser.close().await;
    });
}

/// A destination that nobody has access to.
fn ungranted(office: &Office, name: &str) {
    let shelf = office.destination(name);
    let change = DestinationChange { grants: Some(Grants::default()), ..DestinationChange::default() };
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &change).expect("changed");
}

#[test]
fn a_new_service_asks_for_its_first_administrator_and_stops_while_a_page_listens() {
    let test = tempfile::tempdir().expect("a directory");
    let daemon = Daemon::start(&test.path().join("state"), 0);
    Runtime::new().expect("a runtime").block_on(async {
        let browser = Browser::open().await;
        browser.driver.goto(format!("https://{}/", daemon.address)).await.expect("the page opens");
        browser.sees("Create the first administrator").await;
        assert_accessible(&browser, "begin").await;
        browser.fill("code", "WRONG-CODE").await;
        browser.fill("login", "ingrid").await;
        browser.fill("password", "short").await;
        browser.sees("A password has 10 characters at least.").await;
        browser.fill("password", PASSWORD).await;
        browser.press("Create and sign in").await;
        browser.sees("This is not the code that the service printed last.").await;
        browser.fill("code", &daemon.told("first code")).await;
        browser.press("Create and sign in").await;
        browser.sees("There is no place for backups yet").await;
        // A page that listens for changes does not keep the service from stopping.
        let address = daemon.address.clone();
        assert!(block_in_place(|| daemon.terminate()), "{address}");
        browser.close().await;
    });
}

#[test]
fn a_destination_is_checked_while_it_is_typed_and_added() {
    let office = Office::open();
    on_page(&office, "/storage", async |browser| {
        browser.sees("records are not backed up").await;
        browser.fill("destination-name", "Shelf").await;
        browser.fill("destination-directory", "/nowhere/shelf").await;
        browser.sees("there is no directory above it").await;
        browser.fill("destination-directory", "/proc").await;
        browser.press("Check the directory").await;
        browser.sees("keeps no files").await;
        browser.fill("destination-directory", office.path("shelf").to_str().expect("text")).await;
        browser.fill("destination-capacity", "100").await;
        browser.sees("'100' is not a size").await;
        browser.fill("destination-capacity", "1GB").await;
        browser.press("Add destination").await;
        browser.sees("obody has access yet").await;
        assert_accessible(browser, "storage").await;
    });
}

#[test]
fn groups_and_accounts_are_added_and_names_that_are_taken_are_said_at_once() {
    let office = Office::open();
    on_page(&office, "/people", async |browser| {
        browser.fill("new-group", "survey").await;
        browser.press("Add group").await;
        browser.sees("survey").await;
        browser.fill("account-login", "INGRID").await;
        browser.sees("The name 'ingrid' is taken.").await;
        browser.fill("account-login", "tove").await;
        browser.fill("account-name", "Tove Lund").await;
        browser.press("Add account").await;
        browser.sees("Tove Lund").await;
        browser.press("Open").await;
        browser.sees("Unused enrolment codes: 0").await;
        assert_accessible(browser, "people").await;
    });
}

#[test]
fn access_is_granted_to_an_account_and_says_why() {
    let office = Office::open();
    ungranted(&office, "shelf");
    office.account("tove", Role::Member);
    on_page(&office, "/people/access", async |browser| {
        browser.sees("What each account has, and why").await;
        browser.sees("Access: nobody").await;
        browser.choose("tove").await;
        browser.press("Save").await;
        browser.sees("Access: tove").await;
        browser.sees("by account").await;
        assert_accessible(browser, "access").await;
    });
}

#[test]
fn a_code_is_made_for_an_account_that_exists() {
    let office = Office::open();
    office.destination("shelf");
    office.account("tove", Role::Member);
    on_page(&office, "/people/codes", async |browser| {
        browser.fill("code-login", "tore").await;
        browser.sees("There is no account 'tore'.").await;
        browser.fill("code-login", "tove").await;
        browser.press("Make a code").await;
        browser.sees("It is shown only now").await;
        let code = browser.driver.find(By::ClassName("jf-code")).await.expect("the code").text().await.expect("text");
        assert!(code.starts_with("JF1-"), "{code}");
        assert_accessible(browser, "codes").await;
        browser.follow("Setup").await;
        browser.follow("Discovery").await;
        browser.sees("Not announced: the service listens on none of the chosen interfaces.").await;
        assert_accessible(browser, "setup").await;
    });
}

#[test]
fn a_roster_says_its_faults_then_what_it_would_change_and_then_does_it() {
    let office = Office::open();
    office.destination("shelf");
    office.account("tove", Role::Member);
    on_page(&office, "/people/codes", async |browser| {
        browser.fill("roster-table", "account,machine,destination\ntove,whimbrel,Nowhere\n").await;
        browser.press("See what would change").await;
        browser.sees("there is no destination 'Nowhere'").await;
        browser.fill("roster-table", "account,machine,destination\ntove,whimbrel,shelf\n").await;
        browser.press("See what would change").await;
        browser.sees("new enrolment code").await;
        assert_accessible(browser, "a roster's plan").await;
        browser.press("Do all of this").await;
        browser.sees("1 machine can join").await;
        assert_accessible(browser, "a roster that was imported").await;
    });
}

#[test]
fn a_workstation_its_backup_restore_and_drill_show_by_themselves() {
    let office = Office::open();
    office.destination("shelf");
    on_page(&office, "/workstations", async |browser| {
        browser.sees("No workstation yet").await;
        browser.sees("Updates live").await;
        let station = block_in_place(|| office.workstation("dunlin"));
        browser.sees("first point awaited").await;
        station.write("letter", vec![7; 123_456]);
        block_in_place(|| station.back_up()).expect("a backup");
        browser.sees("just now").await;
        assert_accessible(browser, "workstations").await;

        browser.follow("dunlin").await;
        browser.sees("1 file, 123 kB").await;
        assert_accessible(browser, "a workstation").await;
        browser.follow("History").await;
        block_in_place(|| station.restore_all(&office.path("back"))).expect("a restore");
        browser.sees("Restore from point 1 (everything, to another place)").await;
        block_in_place(|| station.drill(100)).expect("a drill");
        browser.sees("Drill of point 1").await;
        assert_accessible(browser, "a workstation's history").await;
        browser.follow("Summary").await;
        browser.sees("restored point 1, just now").await;
        browser.follow("Restores").await;
        browser.sees("Restore from point 1 (everything, to another place)").await;
        assert_accessible(browser, "restores").await;
    });
}

#[test]
fn a_point_is_removed_and_undeleted_and_a_limit_is_set() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("dunlin");
    for byte in [7, 8] {
        station.write("letter", vec![byte; 123_456]);
        station.back_up().expect("a backup");
    }
    on_page(&office, "/workstations", async |browser| {
        browser.follow("dunlin").await;
        browser.follow("Recovery points").await;
        browser.press("Remove").await;
        browser.sees("Remove point 1?").await;
        browser.press("Remove").await;
        browser.sees("removed by ingrid, gone for good").await;
        assert_accessible(browser, "points").await;
        browser.follow("Limit and retention").await;
        browser.press("What would expire next?").await;
        browser.sees("Nothing would expire").await;
        assert_accessible(browser, "retention").await;
        browser.follow("Recovery points").await;
        browser.press("Undelete").await;
        browser.follow("Limit and retention").await;
        browser.press("Change").await;
        browser.fill("store-limit", "1kB").await;
        browser.press("Save").await;
        browser.sees("At most 1.00 kB").await;
    });
}

#[test]
fn a_schedule_is_set_a_backup_is_asked_for_and_a_workstation_is_paused() {
    let office = Office::open();
    office.destination("shelf");
    let _station = office.workstation("dunlin");
    on_page(&office, "/workstations", async |browser| {
        browser.follow("dunlin").await;
        browser.follow("Schedule").await;
        browser.sees("No agent has reported from this workstation").await;
        browser.press("Change schedule").await;
        browser.sees("When backups may start").await;
        browser.fill_in_form("Save schedule", "When backups may start", "25:00-06:00").await;
        browser.sees("Write always, or for example 22:00-06:00.").await;
        browser.fill_in_form("Save schedule", "When backups may start", "22:00-06:00").await;
        browser.pick_in_form("Save schedule", "Leave out", "what is ticked").await;
        browser.choose("Trash Somebody threw it away.").await;
        assert_accessible(browser, "a schedule").await;
        browser.press("Save schedule").await;
        browser.sees("between 22:00 and 06:00").await;
        browser.sees("trash (set for this workstation)").await;
        browser.press("Back up now").await;
        browser.sees("ingrid asked for a backup").await;
        browser.press("Take back").await;
        browser.press("Pause…").await;
        browser.press("Pause").await;
        browser.sees("Paused by ingrid until").await;
        assert_accessible(browser, "a paused workstation").await;
        browser.press("Resume").await;
        browser.sees("Pause…").await;
    });
}

#[test]
fn those_whom_a_filter_leaves_get_one_schedule_and_keep_what_else_they_have() {
    let office = Office::open();
    office.destination("shelf");
    let stations = ["sandpiper", "sandgrouse", "knot"].map(|name| office.workstation(name));
    let [first, second, third] = stations.each_ref().map(|station| station.home.membership().expect("joined").workstation);
    let path = |id: &str| format!("/workstations/{id}/schedule");
    let own = serde_json::json!({ "on_battery": true });
    let _: serde_json::Value = office.put(&path(&first), &own).expect("set");
    on_page(&office, "/workstations", async |browser| {
        browser.sees("knot").await;
        browser.fill("words", "nobody of that name").await;
        browser.sees("No workstation is as you look for it").await;
        browser.press("Show all").await;
        browser.sees("1–3 of 3").await;
        browser.fill("words", "SAND").await;
        browser.sees("1–2 of 2").await;
        assert_accessible(browser, "a filtered list").await;
        browser.tick("Choose all that are shown").await;
        browser.sees("2 workstations chosen").await;
        browser.press("Change schedule").await;
        browser.sees("Schedule of 2 workstations").await;
        browser.fill_in_form("Save for 2 workstations", "When backups may start", "22:00-06:00").await;
        browser.sees("For each of them: between 22:00 and 06:00.").await;
        assert_accessible(browser, "a schedule of several").await;
        browser.press("Save for 2 workstations").await;
        browser.sees("Updates live").await;
    });
    let settings = |id: &str| office.api.get::<serde_json::Value>(&path(id)).expect("there")["settings"].clone();
    assert_eq!(settings(&first), serde_json::json!({ "hours": "22:00-06:00", "on_battery": true }));
    assert_eq!(settings(&second), serde_json::json!({ "hours": "22:00-06:00" }));
    assert_eq!(settings(&third), serde_json::json!({}));
}

#[test]
fn a_workstations_page_shows_what_it_found_out_about_itself() {
    let (office, station) = Office::with_station("dunlin");
    let page = format!("/workstations/{}", station.home.membership().expect("joined").workstation);
    on_page(&office, &page, async |browser| {
        browser.sees("This workstation was never diagnosed.").await;
        let _ = jetfrost_tests::programs::jetfrost_ends(station.home.directory(), &["diagnose"], 3);
        // It comes by itself: the page is told.
        browser.sees("No agent runs: backups are made by hand only.").await;
        browser.sees("At the workstation: Let backups be made by themselves").await;
        browser.press("Show all 22 steps").await;
        browser.sees("'shelf' grants access to").await;
        assert_accessible(browser, "a diagnosis").await;
    });
}

#[test]
fn a_suspect_point_stands_on_its_workstations_page_until_an_administrator_decides() {
    let (office, station) = Office::with_station("dunlin");
    let mut home = Home::make(&station.folder.join("home"), "console").expect("made");
    station.back_up().expect("a point");
    home.suffer(Incident::EncryptedInPlace).expect("it happens");
    station.back_up().expect("backups go on");
    on_page(&office, "/", async |browser| {
        browser.sees("On 'dunlin', point 2 looks like mass encryption; last good point: 1.").await;
        browser.follow("Workstations").await;
        browser.follow("dunlin").await;
        browser.sees("Point 2 looks like mass encryption").await;
        browser.sees("not recognisable any more").await;
        browser.sees("Point 2 and everything before it stay, whatever the retention, until an administrator decides.").await;
        browser.press("Decide…").await;
        assert_accessible(browser, "a suspect point").await;
        browser.choose("good false alarm: older points go by the rule again").await;
        browser.fill_in_form("Mark good", "Why", "the vault was moved on purpose").await;
        browser.press("Mark good").await;
        browser.follow("Recovery points").await;
        browser.sees("marked good by ingrid: the vault was moved on purpose").await;
        let gone = browser.text().await;
        assert!(!gone.contains("until an administrator decides"), "{gone}");
    });
}

#[test]
fn a_destination_advises_on_its_capacity_follows_the_units_and_is_withdrawn_and_reinstated() {
    let office = Office::open();
    office.destination_at("shelf", &office.path("shelf"), Some(1_000_000_000));
    office.workstation("dunlin").back_up().expect("a backup");
    on_page(&office, "/storage", async |browser| {
        browser.press("Change").await;
        browser.sees("the last of each").await;
        browser.sees("of what the volume leaves after its reserve").await;
        assert_accessible(browser, "storage with settings").await;
        browser.press("Cancel").await;
        browser.choose("binary: 1 GiB is 1,073,741,824 bytes").await;
        browser.sees("Capacity 954 MiB").await;
        browser.choose("decimal: 1 GB is 1,000,000,000 bytes").await;
        browser.sees("Capacity 1.00 GB").await;
        browser.press("Withdraw").await;
        browser.sees("Ingrid withdrew it").await;
        browser.press("Erase…").await;
        browser.sees("1 workstation").await;
        browser.sees("First confirmation").await;
        assert_accessible(browser, "an erasure").await;
        browser.press("Cancel").await;
        browser.press("Reinstate").await;
        browser.sees("Withdraw").await;
    });
}

#[test]
fn backups_are_paused_and_resumed_and_the_audit_log_is_checked() {
    let office = Office::open();
    on_page(&office, "/storage", async |browser| {
        browser.sees("There are no jobs yet. Thinning, scrubs and removals are listed here.").await;
        browser.follow("Setup").await;
        browser.follow("Maintenance").await;
        browser.press("Pause backups until resumed").await;
        browser.sees("New backups are paused until you resume them.").await;
        browser.press("Resume backups").await;
        browser.follow("Reports").await;
        browser.press("Check the chain").await;
        browser.sees("entries are as they were made").await;
        assert_accessible(browser, "reports").await;
    });
}

#[test]
fn mail_is_set_up_and_tested_and_a_server_that_is_gone_is_said() {
    let office = Office::open();
    let post_office = MailStandIn::start(([127, 0, 0, 1], 0).into(), &office.path("mail"), None).expect("it listens");
    on_page(&office, "/setup/mail", async |browser| {
        browser.sees("Alerts are not sent by mail").await;
        browser.press("Set mail up").await;
        browser.fill("mail-server", "localhost").await;
        browser.pick("mail-security", "none: a mail server on this machine").await;
        browser.fill("mail-port", &post_office.address().port().to_string()).await;
        browser.fill("mail-sender", "backups@office.example").await;
        browser.fill("mail-recipients", "ingrid@office.example, nobody in particular").await;
        browser.sees("'nobody in particular' is not a mail address").await;
        assert_accessible(browser, "mail").await;
        browser.press("Save").await;
        browser.sees("Correct this and try again").await;
        browser.fill("mail-recipients", "ingrid@office.example").await;
        browser.press("Save").await;
        browser.sees("no message has been sent yet").await;
        browser.press("Send a test message").await;
        browser.sees("The mail server last accepted a message at").await;
        assert_eq!(post_office.messages().len(), 1);
        drop(post_office);
        browser.press("Send a test message").await;
        browser.sees("The mail server has not taken the last message").await;
    });
}

#[test]
fn whoever_has_nothing_yet_sees_the_program_without_signing_in() {
    let office = Office::open();
    Runtime::new().expect("a runtime").block_on(async {
        let browser = Browser::open().await;
        let open = async || browser.driver.goto(format!("https://{}/downloads", office.address())).await.expect("the page opens");
        open().await;
        browser.sees("There is nothing here yet").await;
        let directory = office.state().join("downloads");
        fs::create_dir(&directory).expect("made");
        fs::write(directory.join("jetfrost_0.3.0_amd64.deb"), "a program").expect("written");
        open().await;
        browser.sees("sudo apt install ./jetfrost_0.3.0_amd64.deb").await;
        assert_accessible(&browser, "downloads").await;
        browser.close().await;
    });
}

#[test]
fn a_missing_destination_is_an_alert_in_the_office() {
    let office = Office::open();
    office.destination("shelf");
    on_page(&office, "/", async |browser| {
        browser.sees("Updates live").await;
        fs::rename(office.path("shelf"), office.path("elsewhere")).expect("moved away");
        browser.sees("1 thing needs attention").await;
        browser.sees("The destination 'shelf' is missing.").await;
        browser.sees("Mount its volume again.").await;
        assert_accessible(browser, "an alert in the office").await;
        browser.follow("Alerts").await;
        assert_accessible(browser, "alerts").await;
        browser.follow("Open storage").await;
        browser.sees("Destinations").await;
    });
}

#[test]
fn a_second_factor_is_offered_and_signing_in_again_goes_back_to_where_one_was() {
    let office = Office::open();
    office.destination("shelf");
    let _ = office.workstation("dunlin");
    on_page(&office, "/me", async |browser| {
        browser.sees("console (this one)").await;
        browser.press("Add a second factor").await;
        browser.sees("Scan this with your authenticator").await;
        assert_accessible(browser, "your account").await;
        browser.follow("Workstations").await;
        browser.follow("dunlin").await;
        browser.sees("Recovery points").await;

        browser.press("Sign out").await;
        browser.sees("Password of the account").await;
        sign_in(browser, "not the password").await;
        browser.sees("The login name or the account's password is wrong.").await;
        assert_accessible(browser, "sign in").await;
        sign_in(browser, PASSWORD).await;
        browser.sees("Recovery points").await;
    });
}

#[test]
fn of_two_administrators_who_change_a_destination_the_second_sees_both_versions() {
    let office = Office::open();
    let shelf = office.destination_at("shelf", &office.path("shelf"), Some(1_000_000_000));
    let another_sets = |change: DestinationChange| {
        block_in_place(|| office.api.send::<_, Destination>(Method::PATCH, &format!("/destinations/{}", shelf.id), &change))
            .expect("changed");
    };
    on_page(&office, "/storage", async |browser| {
        browser.press("Change").await;
        browser.sees("the last of each").await;
        browser.fill_in_form("Save", "Capacity", "3GB").await;
        another_sets(DestinationChange { capacity: Some(Limit::Bytes(2_000_000_000)), ..DestinationChange::default() });
        browser.press("Save").await;
        browser.sees("'ingrid' changed this at").await;
        assert_eq!(browser.row("Capacity").await, ["2 GB", "3 GB"], "how it is now, and what was typed");
        assert_accessible(browser, "both versions").await;
        browser.press("Save mine").await;
        browser.sees("Capacity 3.00 GB").await;

        // What another set beside it is nothing to decide about.
        browser.press("Change").await;
        browser.fill_in_form("Save", "Capacity", "4GB").await;
        another_sets(DestinationChange { grants: Some(Grants::default()), ..DestinationChange::default() });
        browser.press("Save").await;
        browser.sees("Capacity 4.00 GB").await;
    });
}

/// All of it without a pointer: the search, what it found, a list and its order.
#[test]
fn a_workstation_is_found_and_a_list_is_sorted_by_keyboard_alone() {
    let office = Office::open();
    office.destination("shelf");
    let _stations = ["dunlin", "knot", "sandpiper"].map(|name| office.workstation(name));
    on_page(&office, "/", async |browser| {
        browser.sees("3 first point awaited").await;
        assert_accessible(browser, "office").await;
        let keys = async |keys: TypingData| {
            let focused = browser.driver.active_element().await.expect("something has the focus");
            focused.send_keys(keys).await.expect("typed");
        };
        keys("/".into()).await;
        keys("sandp".into()).await;
        browser.sees("owner of sandpiper").await;
        assert_accessible(browser, "a search").await;
        keys(Key::Down + Key::Enter).await;
        browser.sees("Recovery points").await;
        assert!(browser.driver.title().await.expect("a title").starts_with("Workstation"));
        keys("/".into()).await;
        keys("nothing of the kind".into()).await;
        browser.sees("Nothing has all of these words.").await;
        keys(Key::Escape + "").await;

        browser.follow("Workstations").await;
        browser.sees("1–3 of 3").await;
        browser.press("Workstation ▴").await;
        let order = async || {
            let rows = browser.driver.find_all(By::XPath("//tbody//th/a")).await.expect("rows");
            let mut names = Vec::new();
            for row in rows {
                names.push(row.text().await.expect("text"));
            }
            names
        };
        browser.sees("Workstation ▾").await;
        assert_eq!(order().await, ["sandpiper", "knot", "dunlin"]);
        // The address says it: it can be passed on, and one goes back from it.
        assert!(browser.driver.current_url().await.expect("an address").query().is_some_and(|query| query == "descending=yes"));
        browser.driver.refresh().await.expect("loaded again");
        browser.sees("Workstation ▾").await;
        browser.driver.back().await.expect("gone back");
        browser.sees("Workstation ▴").await;
        assert_eq!(order().await, ["dunlin", "knot", "sandpiper"]);
    });
}

/// On a telephone, beside a machine that does not start.
#[test]
fn every_place_fits_a_narrow_window_and_the_menu_leads_to_each() {
    let (office, station) = Office::with_station("dunlin");
    station.back_up().expect("a point");
    on_page(&office, "/", async |browser| {
        browser.sees("Updates live").await;
        browser.resize(360, 740).await;
        for place in ["Office", "Workstations", "Restores", "Storage", "People & access", "Alerts", "Reports", "Setup"] {
            browser.press("Menu").await;
            browser.follow(place).await;
            browser.sees("Menu").await;
            let width = browser.driver.execute("return document.documentElement.scrollWidth", vec![]).await.expect("a width");
            assert_eq!(width.json(), 360, "{place} is wider than its window");
            assert_accessible(browser, place).await;
        }
    });
}

#[test]
fn a_limit_is_set_for_those_that_were_chosen_after_it_was_said_what_changes() {
    let office = Office::open();
    office.destination("shelf");
    let stations = ["dunlin", "knot"].map(|name| office.workstation(name));
    on_page(&office, "/workstations", async |browser| {
        browser.tick("Choose dunlin").await;
        browser.tick("Choose knot").await;
        browser.press("Set limit").await;
        browser.sees("Set limit: 2 workstations").await;
        browser.fill("several-limit", "250GB").await;
        assert_eq!(browser.row("knot").await[..2], ["no limit", "250 GB"]);
        assert_accessible(browser, "what changes for several").await;
        browser.press("Set limit (2)").await;
        browser.sees("2 of 2 done").await;
        browser.press("Close").await;
        browser.sees("of 250 GB").await;
    });
    for station in &stations {
        let store: serde_json::Value = office.api.get(&format!("{}/settings", station.store())).expect("settings");
        assert_eq!(store["limit"], 250_000_000_000_u64);
    }
}
