//! Image stores that are damaged at random and read from their disk: what comes back is as it was, or is refused, or is named, with an
//! exit code that says so. Never is something else given out.
//!
//! `JETFROST_DAMAGES=500` damages so many; a few unless it is set.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use jetfrost_image::crypto::{Random, SeededRandom};
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::programs::{Said, jetfrost};
use jetfrost_tests::witness::listing;

const POINTS: u64 = 3;
const USUAL: u64 = 25;

/// Numbers that repeat for the same seed.
struct Chance(SeededRandom);

impl Chance {
    fn below(&self, most: usize) -> usize {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        usize::try_from(u64::from_le_bytes(bytes) % most.max(1) as u64).expect("below a usize")
    }
}

/// A workstation with three points, and what its folder was at each.
fn scene() -> (Office, Workstation, PathBuf) {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("eider");
    let chance = SeededRandom::new(b"scene");
    for point in 1..=POINTS {
        let mut chart = vec![0; 900_000];
        chance.fill(&mut chart);
        station.write("maps/chart.tif", chart);
        for n in 0..30 {
            station.write(&format!("letters/{}/{n}.txt", n % 4), format!("letter {n} {}", if n % 7 == 0 { point } else { 0 }));
        }
        station.write(&format!("letters/only at {point}.txt"), format!("{point}"));
        station.back_up().expect("backed up");
        copy(&station.folder, &office.path(&format!("after-{point}")));
        fs::remove_file(station.folder.join(format!("letters/only at {point}.txt"))).expect("there");
    }
    office.stop();
    let store = office.path("shelf").join("stores").join(station.home.membership().expect("joined").store);
    (office, station, store)
}

fn copy(from: &Path, to: &Path) {
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().expect("cp runs").success());
}

fn files(directory: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(directory).into_iter().flatten().map(|entry| entry.expect("an entry").path());
    let mut found: Vec<PathBuf> = entries.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect();
    found.sort();
    found
}

/// Damages a store once, in a way that disks, people and other programs do. Says how.
fn damage(store: &Path, chance: &Chance) -> String {
    let files: Vec<PathBuf> = files(store).into_iter().filter(|path| fs::metadata(path).expect("there").len() > 0).collect();
    let path = &files[chance.below(files.len())];
    let len = usize::try_from(fs::metadata(path).expect("there").len()).expect("short");
    let file = fs::OpenOptions::new().read(true).write(true).open(path).expect("opens");
    let shown = path.strip_prefix(store).expect("below").display().to_string();
    let at = chance.below(len);
    match chance.below(6) {
        0 => {
            let mut byte = [0];
            file.read_exact_at(&mut byte, at as u64).expect("read");
            file.write_all_at(&[byte[0] ^ 1 << chance.below(8)], at as u64).expect("flipped");
            format!("a bit at {at} of {shown}")
        }
        1 => {
            file.set_len(at as u64).expect("cut");
            format!("{shown} cut at {at}")
        }
        2 => {
            fs::remove_file(path).expect("removed");
            format!("{shown} gone")
        }
        3 => {
            let from = at / 4096 * 4096;
            file.write_all_at(&vec![0; 4096.min(len - from)], from as u64).expect("zeroed");
            format!("a block of zeros at {from} of {shown}")
        }
        4 => {
            let alike: Vec<&PathBuf> = files.iter().filter(|other| other.extension() == path.extension()).collect();
            let other = alike[chance.below(alike.len())];
            let (one, two) = (fs::read(path).expect("read"), fs::read(other).expect("read"));
            fs::write(path, two).expect("swapped");
            fs::write(other, one).expect("swapped");
            format!("{shown} and {} swapped", other.strip_prefix(store).expect("below").display())
        }
        _ => {
            file.write_all_at(b"what another program left", len as u64).expect("appended");
            format!("{shown} with more behind it")
        }
    }
}

/// What a restore gave out is as it was; what it did not is named, and its exit code says so.
fn is_honest(what: &str, expected: &Path, back: &Path, said: &Said, code: i32) {
    if code == 0 {
        assert_eq!(listing(back), listing(expected), "{what}: exit code 0, and something differs\n{}{}", said.out, said.err);
        return;
    }
    assert!([1, 3, 6].contains(&code), "{what}: exit code {code}\n{}{}", said.out, said.err);
    if !back.exists() {
        assert!(!said.err.is_empty() || !said.out.is_empty(), "{what}: it says nothing");
        return;
    }
    let text = format!("{}{}", said.out, said.err);
    for path in files(expected) {
        let within = path.strip_prefix(expected).expect("below");
        match fs::read(back.join(within)) {
            Ok(content) => assert!(content == fs::read(&path).expect("read"), "{what}: {} is another", within.display()),
            Err(_) => {
                let named = within.ancestors().any(|above| text.contains(&back.join(above).display().to_string()));
                assert!(
                    named || text.contains("damaged") || text.contains("lost"),
                    "{what}: {} is not named\n{text}",
                    within.display()
                );
            }
        }
    }
}

#[test]
fn whatever_is_damaged_what_comes_back_is_as_it_was_or_is_named() {
    let damages = std::env::var("JETFROST_DAMAGES").ok().and_then(|n| n.parse().ok()).unwrap_or(USUAL);
    let (office, station, store) = scene();
    let (mut equal, mut named) = (0, 0);
    for n in 0..damages {
        let chance = Chance(SeededRandom::new(format!("damage {n}").as_bytes()));
        let hurt = office.path("hurt");
        copy(&store, &hurt);
        let mut what = damage(&hurt, &chance);
        for _ in 0..chance.below(3) {
            what = format!("{what}, {}", damage(&hurt, &chance));
        }
        let what = format!("damage {n}: {what}");
        for point in 1..=POINTS {
            let back = office.path("back");
            let output = jetfrost(station.home.directory())
                .args([
                    "restore",
                    station.folder.to_str().expect("text"),
                    "--quiet",
                    "--special",
                    "--at",
                    &point.to_string(),
                    "--to",
                ])
                .arg(&back)
                .arg("--store-directory")
                .arg(&hurt)
                .output()
                .expect("it runs");
            let code = output.status.code().expect("it was not killed");
            let said = Said::of(&output);
            let lie = format!("there is no recovery point {point}");
            assert!(!said.err.contains(&lie) || store_says_nothing_of(&hurt, point), "{what}: {}", said.err);
            is_honest(
                &format!("{what}, point {point}"),
                &office.path(&format!("after-{point}")),
                &back.join(station.folder.file_name().expect("a name")),
                &said,
                code,
            );
            if code == 0 {
                equal += 1;
            } else {
                named += 1;
            }
            if back.exists() {
                fs::remove_dir_all(&back).expect("removed");
            }
        }
        fs::remove_dir_all(&hurt).expect("removed");
    }
    assert!(equal > 0 && named > 0, "{equal} equal, {named} named");
}

/// Whether nothing on the disk says any more that there was such a point.
fn store_says_nothing_of(store: &Path, point: u64) -> bool {
    let gone = |directory: &str, suffix: &str| !store.join(directory).join(format!("{point:010}.{suffix}")).exists();
    gone("points", "point") && gone("receipts", "receipt")
}
