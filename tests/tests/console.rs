//! The console in a headless browser, against the real service.

use std::fs;

use jetfrost_tests::browser::Browser;
use jetfrost_tests::programs::{Daemon, jetfrost_ends};
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
    browser.fill("password", "a test of ten").await;
    browser.press("Create and sign in").await;
    browser.sees("This is not the code that the service printed last.").await;
    browser.fill("code", &daemon.told("first code")).await;
    browser.press("Create and sign in").await;

    browser.sees("own records are not protected").await;
    browser.sees("There is no place for backups yet").await;
    browser.fill("destination-name", "Shelf").await;
    browser.fill("destination-directory", "/proc").await;
    browser.press("Try the directory").await;
    browser.sees("keeps no files").await;
    browser.fill("destination-directory", at("shelf").to_str().expect("text")).await;
    browser.fill("destination-capacity", "100").await;
    browser.fill("destination-capacity", "1GB").await;
    browser.press("Add destination").await;
    browser.sees("open to nobody yet").await;
    assert_accessible(&browser, "storage").await;
    browser.follow("People").await;
    browser.fill("new-group", "survey").await;
    browser.press("Add group").await;
    browser.sees("survey").await;
    browser.fill("account-login", "tove").await;
    browser.fill("account-name", "Tove Lund").await;
    browser.press("Add account").await;
    browser.sees("Tove Lund").await;
    browser.press("Open").await;
    browser.sees("Open enrolment codes: 0").await;
    assert_accessible(&browser, "people").await;
    browser.follow("Access").await;
    browser.sees("What each account has, and why").await;
    browser.sees("Open to nobody").await;
    browser.choose("Tove Lund").await;
    browser.press("Save").await;
    browser.sees("Open to tove").await;
    browser.sees("by account").await;
    assert_accessible(&browser, "access").await;
    browser.follow("Machines").await;
    browser.fill("code-login", "tove").await;
    browser.press("Make a code").await;
    browser.sees("It is shown only now").await;
    assert_accessible(&browser, "machines").await;
    browser.sees("Not announced: the service listens on no interface that was chosen.").await;
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
    browser.sees("Changes show by themselves").await;
    let station = at("station");
    let _ = jetfrost_ends(&station, &["join", &code, "--name", "dunlin"], 0);
    browser.sees("first point awaited").await;
    let files = at("files");
    fs::create_dir(&files).expect("a folder");
    fs::write(files.join("letter"), vec![7; 123_456]).expect("written");
    let _ = jetfrost_ends(&station, &["keep", files.to_str().expect("text")], 0);
    let _ = jetfrost_ends(&station, &["backup"], 0);
    browser.sees("just now").await;
    assert_accessible(&browser, "overview").await;

    browser.follow("dunlin").await;
    browser.sees("1 file, 123 kB").await;
    let _ = jetfrost_ends(&station, &["restore", "--to", at("back").to_str().expect("text")], 0);
    browser.sees("Restore from point 1 (everything)").await;
    fs::write(files.join("letter"), vec![8; 123_456]).expect("written");
    let _ = jetfrost_ends(&station, &["backup"], 0);
    browser.press("Remove").await;
    browser.sees("Remove point 1?").await;
    browser.press("Remove").await;
    browser.sees("removed by ingrid, goes").await;
    browser.press("What would go next?").await;
    browser.sees("Nothing would go").await;
    assert_accessible(&browser, "workstation").await;
    browser.press("Bring back").await;
    browser.press("Change").await;
    browser.fill("store-limit", "1kB").await;
    browser.press("Save").await;
    browser.sees("At most 1.00 kB").await;
    browser.follow("Storage").await;
    browser.press("Change").await;
    browser.sees("the last of each").await;
    browser.sees("of what the volume leaves after its reserve").await;
    assert_accessible(&browser, "storage with settings").await;
    browser.press("Leave as it is").await;
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
    browser.press("Leave it").await;
    browser.press("Bring back").await;
    browser.sees("Withdraw").await;
    browser.follow("Activity").await;
    browser.sees("There was none yet. Thinning and removals show here.").await;
    browser.press("Let no new backups in").await;
    browser.sees("Backups are not let in.").await;
    browser.press("Let backups in").await;
    browser.press("Check the chain").await;
    browser.sees("entries are as they were made").await;
    assert_accessible(&browser, "activity").await;
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
