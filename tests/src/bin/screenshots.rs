//! Takes the console's pictures for the documentation: `screenshots https://localhost:7410 docs/screenshots`, while the
//! demo runs.

use std::path::PathBuf;

use jetfrost_tests::browser::Browser;

#[tokio::main]
async fn main() {
    let mut arguments = std::env::args().skip(1);
    let base = arguments.next().expect("the console's address");
    let into = PathBuf::from(arguments.next().expect("a directory"));
    let browser = Browser::open().await;
    let go = async |path: &str| browser.driver.goto(format!("{base}{path}")).await.expect("the page opens");

    go("/sign-in").await;
    browser.sees("Login name").await;
    browser.fill("login", "ingrid").await;
    browser.fill("password", "low water at noon").await;
    browser.press("Sign in").await;
    browser.sees("Backups of the last 14 days").await;
    browser.sees("Updates live").await;
    browser.picture(&into.join("console-office.png")).await;

    go("/workstations").await;
    browser.sees("whimbrel").await;
    browser.picture(&into.join("console-workstations.png")).await;
    browser.follow("lapwing").await;
    browser.sees("Recovery points").await;
    browser.press("Decide…").await;
    browser.picture(&into.join("console-workstation.png")).await;

    go("/workstations").await;
    browser.follow("redshank").await;
    browser.follow("Browse and restore").await;
    browser.fill_in_form("Unlock", "Image passphrase of redshank", "three herring gulls").await;
    browser.press("Unlock").await;
    browser.sees("as of").await;
    browser.press("Logs/").await;
    browser.press("instruments.log").await;
    browser.sees("station=").await;
    browser.press("All versions").await;
    browser.sees("point 20").await;
    browser.driver.execute("window.scrollTo(0, 0)", vec![]).await.expect("scrolled");
    browser.picture(&into.join("console-browse.png")).await;

    for (path, waits_for, file) in [
        ("/storage", "Free", "console-storage.png"),
        ("/people", "Eskil Moe", "console-people.png"),
        ("/people/access", "What each account has, and why", "console-access.png"),
        ("/reports", "Audit log", "console-reports.png"),
    ] {
        go(path).await;
        browser.sees(waits_for).await;
        browser.picture(&into.join(file)).await;
    }
    go("/people/codes").await;
    browser.sees("Import people and machines").await;
    let table = "account,display name,groups,machine,disk,destination,limit\n\
                 sunniva,Sunniva Dahl,Field work,fulmar,512 GB,Shelf,2.5x\n\
                 sunniva,,,petrel,1 TB,,\n\
                 marek,Marek Holm,Drafting,curlew,,,800 GB\n";
    browser.fill("roster-table", table).await;
    browser.press("See what would change").await;
    browser.sees("Do all of this").await;
    browser.picture(&into.join("console-codes.png")).await;
    browser.close().await;
}
