//! The console in a headless browser, against the real service.

use std::fs;

use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_tests::browser::Browser;
use jetfrost_tests::office::PASSWORD;
use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost_ends};
use thirtyfour::By;

/// No violation of WCAG 2.2 AA, in light and in dark colours.
async fn assert_accessible(browser: &Browser, page: &str) {
    assert_eq!(browser.violations().await, Vec::<String>::new(), "{page}");
    browser.driver.execute("document.documentElement.dataset.bsTheme = 'dark'", vec![]).await.expect("dark");
    assert_eq!(browser.violations().await, Vec::<String>::new(), "{page}, dark");
    browser.driver.execute("document.documentElement.dataset.bsTheme = 'light'", vec![]).await.expect("light");
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_first_administrator_to_a_backup_that_shows_by_itself() {
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let daemon = Daemon::start(&at("state"), 0);
    let browser = Browser::open().await;
    browser.driver.goto(format!("https://{}/", daemon.address)).await.expect("the page opens");

    browser.sees("Create the first administrator").await;
    assert_accessible(&browser, "begin").await;
    browser.fill("code", "WRONG-CODE").await;
    browser.fill("login", "ingrid").await;
    browser.fill("password", "short").await;
    browser.sees("A password has 10 characters at least.").await;
    assert_accessible(&browser, "begin, with a complaint").await;
    browser.fill("password", "a test of ten").await;
    browser.press("Create and sign in").await;
    browser.sees("This is not the code that the service printed last.").await;
    browser.fill("code", &daemon.told("first code")).await;
    browser.press("Create and sign in").await;

    browser.sees("records are not backed up").await;
    browser.sees("There is no place for backups yet").await;
    browser.fill("destination-name", "Shelf").await;
    browser.fill("destination-directory", "/nowhere/shelf").await;
    browser.sees("there is no directory above it").await;
    browser.fill("destination-directory", "/proc").await;
    browser.press("Try the directory").await;
    browser.sees("keeps no files").await;
    browser.fill("destination-directory", at("shelf").to_str().expect("text")).await;
    browser.fill("destination-capacity", "100").await;
    browser.sees("'100' is not a size").await;
    browser.fill("destination-capacity", "1GB").await;
    browser.press("Add destination").await;
    browser.sees("nobody has access yet").await;
    assert_accessible(&browser, "storage").await;
    browser.follow("People").await;
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
    assert_accessible(&browser, "people").await;
    browser.follow("Access").await;
    browser.sees("What each account has, and why").await;
    browser.sees("Access: nobody").await;
    browser.choose("Tove Lund").await;
    browser.press("Save").await;
    browser.sees("Access: tove").await;
    browser.sees("by account").await;
    assert_accessible(&browser, "access").await;
    browser.follow("Machines").await;
    browser.fill("code-login", "tore").await;
    browser.sees("There is no account 'tore'.").await;
    browser.fill("code-login", "tove").await;
    browser.press("Make a code").await;
    browser.sees("It is shown only now").await;
    assert_accessible(&browser, "machines").await;
    browser.sees("Not announced: the service listens on none of the chosen interfaces.").await;
    browser.fill("roster-table", "account,machine,destination\ntove,whimbrel,Nowhere\n").await;
    browser.press("See what would change").await;
    browser.sees("there is no destination 'Nowhere'").await;
    browser.fill("roster-table", "account,machine,destination\ntove,whimbrel,Shelf\n").await;
    browser.press("See what would change").await;
    browser.sees("new enrolment code").await;
    assert_accessible(&browser, "many at once").await;
    let code = browser.driver.find(By::ClassName("jf-code")).await.expect("the code").text().await.expect("text");

    browser.press("Do all of this").await;
    browser.sees("1 machine can join").await;
    assert_accessible(&browser, "a roster that was brought in").await;

    browser.follow("Overview").await;
    browser.sees("No workstation yet").await;
    browser.sees("Updates live").await;
    let station = at("station");
    let _ = jetfrost_ends(&station, &["join", &code, "--name", "dunlin"], 0);
    browser.sees("first point awaited").await;
    let files = at("files");
    fs::create_dir(&files).expect("a folder");
    fs::write(files.join("letter"), vec![7; 123_456]).expect("written");
    let _ = jetfrost_ends(&station, &["include", files.to_str().expect("text")], 0);
    let _ = jetfrost_ends(&station, &["backup"], 0);
    browser.sees("just now").await;
    assert_accessible(&browser, "overview").await;

    browser.follow("dunlin").await;
    browser.sees("1 file, 123 kB").await;
    let _ = jetfrost_ends(&station, &["restore", "--to", at("back").to_str().expect("text")], 0);
    browser.sees("Restore from point 1 (everything)").await;
    browser.sees("none yet: jetfrost drill").await;
    let _ = jetfrost_ends(&station, &["drill"], 0);
    browser.sees("restored point 1, just now").await;
    browser.sees("Drill of point 1").await;
    fs::write(files.join("letter"), vec![8; 123_456]).expect("written");
    let _ = jetfrost_ends(&station, &["backup"], 0);
    browser.press("Remove").await;
    browser.sees("Remove point 1?").await;
    browser.press("Remove").await;
    browser.sees("removed by ingrid, gone for good").await;
    browser.press("What would expire next?").await;
    browser.sees("Nothing would expire").await;
    assert_accessible(&browser, "workstation").await;
    browser.press("Undelete").await;
    browser.press("Change").await;
    browser.fill("store-limit", "1kB").await;
    browser.press("Save").await;
    browser.sees("At most 1.00 kB").await;
    browser.follow("Storage").await;
    browser.press("Change").await;
    browser.sees("the last of each").await;
    browser.sees("of what the volume leaves after its reserve").await;
    assert_accessible(&browser, "storage with settings").await;
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
    assert_accessible(&browser, "an erasure").await;
    browser.press("Cancel").await;
    browser.press("Reinstate").await;
    browser.sees("Withdraw").await;
    browser.follow("Activity").await;
    browser.sees("There was none yet. Thinning and removals show here.").await;
    browser.press("Pause until resumed").await;
    browser.sees("New backups are paused until you resume them.").await;
    browser.press("Resume backups").await;
    browser.press("Check the chain").await;
    browser.sees("entries are as they were made").await;
    assert_accessible(&browser, "activity").await;
    let post_office = MailStandIn::start(([127, 0, 0, 1], 0).into(), &at("mail"), None).expect("it listens");
    browser.sees("Alerts are not sent by mail").await;
    browser.press("Set mail up").await;
    browser.fill("mail-server", "localhost").await;
    browser.pick("mail-security", "none: a mail server on this machine").await;
    browser.fill("mail-port", &post_office.address().port().to_string()).await;
    browser.fill("mail-sender", "backups@office.example").await;
    browser.fill("mail-recipients", "ingrid@office.example, nobody in particular").await;
    browser.sees("'nobody in particular' is no mail address").await;
    assert_accessible(&browser, "mail").await;
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
    browser.follow("Overview").await;
    fs::rename(at("shelf"), at("elsewhere")).expect("moved away");
    browser.sees("1 thing needs attention").await;
    browser.sees("The destination 'Shelf' is missing.").await;
    assert_accessible(&browser, "what needs attention").await;
    fs::rename(at("elsewhere"), at("shelf")).expect("moved back");
    browser.follow("ingrid · administrator").await;
    browser.sees("console (this one)").await;
    browser.press("Add a second factor").await;
    browser.sees("Scan this with your authenticator").await;
    assert_accessible(&browser, "oneself").await;
    browser.follow("Overview").await;
    browser.follow("dunlin").await;
    browser.sees("Recovery points").await;

    browser.press("Sign out").await;
    browser.sees("Password of the account").await;
    browser.fill("login", "ingrid").await;
    browser.fill("password", "not the password").await;
    browser.press("Sign in").await;
    browser.sees("The login name or the account's password is wrong.").await;
    assert_accessible(&browser, "sign in").await;
    browser.fill("password", "a test of ten").await;
    browser.press("Sign in").await;
    // It goes back to where one was.
    browser.sees("History of runs and restores").await;
    browser.close().await;
    assert!(daemon.terminate(), "also while a page listens for changes");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_administrators_who_change_a_destination_the_second_sees_both_versions() {
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let daemon = Daemon::start(&at("state"), 0);
    let desk = at("desk");
    first_sign_in(&daemon, &desk);
    let shelf = at("shelf");
    let _ = jetfrost_ends(&desk, &["destination", "add", "Shelf", shelf.to_str().expect("text"), "--capacity", "1GB"], 0);
    let browser = Browser::open().await;
    browser.driver.goto(format!("https://{}/storage", daemon.address)).await.expect("the page opens");
    browser.fill("login", "ingrid").await;
    browser.fill("password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.press("Change").await;
    browser.sees("the last of each").await;
    browser.fill_in_form("Save", "Capacity", "3GB").await;

    let _ = jetfrost_ends(&desk, &["destination", "set", "Shelf", "--capacity", "2GB"], 0);
    browser.press("Save").await;
    browser.sees("'ingrid' changed this at").await;
    assert_eq!(browser.row("Capacity").await, ["2 GB", "3 GB"], "how it is now, and what was typed");
    assert_accessible(&browser, "both versions").await;
    browser.press("Save mine").await;
    browser.sees("Capacity 3.00 GB").await;

    // What another set beside it is nothing to decide about.
    browser.press("Change").await;
    browser.fill_in_form("Save", "Capacity", "4GB").await;
    let _ = jetfrost_ends(&desk, &["access", "grant", "Shelf", "--everybody"], 0);
    browser.press("Save").await;
    browser.sees("Capacity 4.00 GB").await;
    browser.close().await;
}
