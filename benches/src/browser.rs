//! Restoring in a browser: the key is derived, chunks are opened, decompressed and hashed there.

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use jetfrost_tests::browser::Browser;
use jetfrost_tests::office::{PASSPHRASE, PASSWORD};
use thirtyfour::By;

use crate::office::{Office, mb, outln, seconds};

const IN_FOLDER: u64 = 100;
/// Bytes of the file that is downloaded.
const LARGE: u64 = 1 << 30;
/// What a browser may need beside an empty page, and what it may take.
const MEMORY: f64 = 300.0;
pub(crate) fn run(scratch: &Path, files: u64) {
    let tree = scratch.join("tree");
    for folder in 0..files / IN_FOLDER {
        let folder = tree.join(format!("{:03}/{folder:06}", folder / 100));
        fs::create_dir_all(&folder).expect("made");
        for file in 0..IN_FOLDER {
            fs::write(folder.join(format!("note-{file:02}.txt")), format!("{} {file}", folder.display())).expect("written");
        }
    }
    let large = tree.join("large.tar");
    seconds(&format!("tar cf - /usr 2>/dev/null | head -c {LARGE} > {}", large.display()));
    let office = Office::open(scratch);
    let station = office.station("browsed");
    station.keep(&tree, false);
    let _ = station.back_up();
    let page = format!("https://{}/workstations/{}/browse", office.daemon.address, station.id());
    tokio::runtime::Runtime::new().expect("a runtime").block_on(browse(&page, files));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

async fn browse(page: &str, files: u64) {
    let browser = Browser::open().await;
    browser.driver.goto(page).await.expect("the page opens");
    browser.fill("login", "ingrid").await;
    browser.fill("password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.sees("Unlock in this browser").await;
    let empty = renderers();
    browser.fill_in_form("Unlock", "Image passphrase of browsed", PASSPHRASE).await;
    let began = Instant::now();
    browser.press("Unlock").await;
    browser.sees("large.tar").await;
    outln(&format!("{files} files      first folder, with the key derived: {:.2} s", began.elapsed().as_secs_f64()));
    let began = Instant::now();
    browser.press("000/").await;
    browser.sees("000000/").await;
    outln(&format!("  the next folder: {:.2} s (to be below 1)", began.elapsed().as_secs_f64()));
    browser.press("tree").await;
    browser.sees("large.tar").await;
    browser.press("large.tar").await;
    // Where a person would be asked, a file of the browser's own.
    let own = "window.showSaveFilePicker = async () => (await navigator.storage.getDirectory()).getFileHandle('bench', { create: true })";
    browser.driver.execute(own, vec![]).await.expect("set");
    let began = Instant::now();
    browser.press("Download").await;
    let mut peak = 0.0_f64;
    // Looking through a page by what it says would take a part of the machine.
    while browser.driver.find(By::Css(".alert-success")).await.is_err() {
        peak = peak.max(renderers());
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    let took = began.elapsed().as_secs_f64();
    outln(&format!("  a file of {:.0} MB: {took:.1} s, {:.0} MB/s (to be at least 40)", mb(LARGE), mb(LARGE) / took));
    outln(&format!("  memory: {:.0} MB more than the locked page (to be below {MEMORY:.0})", peak - empty));
    browser.close().await;
}

/// Resident memory of all renderers, in MB.
fn renderers() -> f64 {
    let script = "ps -eo rss=,args= | awk '/--type=renderer/ && !/awk/ { sum += $1 } END { printf \"%.0f\", sum * 1024 }'";
    mb(crate::office::number(script))
}
