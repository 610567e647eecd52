//! Random changes of a tree, round after round, held against what the tree was: as system tools see it, not this project's code.
//!
//! `JETFROST_SEEDS=10 JETFROST_ROUNDS=30` does more of it; one seed and a few rounds unless they are set.

use std::ffi::OsString;
use std::fs;
use std::fs::File;
use std::os::unix::fs::{FileExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};

use jetfrost_client::browse::At;
use jetfrost_client::restore::{Rights, Target, Wish};
use jetfrost_tests::chance::{Chance, wanted};
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::witness::listing;

/// What is in a tree, folders before what is in them; links are not followed.
fn names(tree: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut entries: Vec<PathBuf> = fs::read_dir(tree).expect("readable").map(|entry| entry.expect("an entry").path()).collect();
    entries.sort();
    for path in entries {
        let is_folder = fs::symlink_metadata(&path).expect("there").is_dir();
        found.push(path.clone());
        if is_folder {
            found.extend(names(&path));
        }
    }
    found
}

fn is_file(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|found| found.is_file())
}

fn is_folder(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|found| found.is_dir())
}

fn remove(path: &Path) {
    let removed = if is_folder(path) { fs::remove_dir_all(path) } else { fs::remove_file(path) };
    removed.expect("removed");
}

/// A tree that somebody works in.
pub(crate) struct Tree {
    pub(crate) root: PathBuf,
    pub(crate) chance: Chance,
    made: usize,
}

impl Tree {
    pub(crate) fn new(root: PathBuf, seed: &str) -> Self {
        Self { root, chance: Chance::of(seed), made: 0 }
    }

    fn any(&self, fits: impl Fn(&Path) -> bool) -> Option<PathBuf> {
        let all: Vec<PathBuf> = names(&self.root).into_iter().filter(|path| fits(path)).collect();
        (!all.is_empty()).then(|| all[self.chance.below(all.len())].clone())
    }

    fn new_name(&mut self) -> PathBuf {
        self.made += 1;
        let folder = if self.chance.below(3) == 0 { None } else { self.any(is_folder) };
        folder.unwrap_or_else(|| self.root.clone()).join(format!("n{}", self.made))
    }

    /// One change of those that people and programs make.
    pub(crate) fn change(&mut self) {
        match self.chance.below(18) {
            0..=2 => {
                let path = self.new_name();
                fs::write(path, self.chance.bytes(60_000)).expect("written");
            }
            3 => fs::create_dir(self.new_name()).expect("made"),
            4 => self.any(|_| true).iter().for_each(|path| remove(path)),
            5 => self.in_file(|file, len, tree| {
                // The same length, and the time put back: only the change time tells.
                let was = file.metadata().and_then(|found| found.modified()).expect("a time");
                file.write_all_at(&tree.chance.bytes(len.max(1))[..1], (len / 2) as u64).expect("written");
                file.set_modified(was).expect("put back");
            }),
            6 => self.in_file(|file, len, tree| file.write_all_at(&tree.chance.bytes(30_000), len as u64).expect("appended")),
            7 => self.in_file(|file, len, _| file.set_len((len / 2) as u64).expect("cut")),
            8 => self.in_file(|file, len, tree| {
                // Sparse: a hole, then something.
                file.write_all_at(&tree.chance.bytes(9000), (len + (1 << 20)) as u64).expect("written");
            }),
            9 => {
                let (from, to) = (self.any(|_| true), self.new_name());
                // A folder is not moved into itself.
                from.filter(|from| !to.starts_with(from)).iter().for_each(|from| fs::rename(from, &to).expect("renamed"));
            }
            10 => {
                let (from, to) = (self.any(is_file), self.new_name());
                from.iter().for_each(|from| fs::hard_link(from, &to).expect("linked"));
            }
            // The number of the file that is gone is given to the next one.
            11 => self.any(is_file).iter().for_each(|path| {
                fs::remove_file(path).expect("removed");
                fs::write(path, self.chance.bytes(20_000)).expect("written");
                fs::write(path.with_extension(format!("again{}", self.chance.below(1 << 30))), self.chance.bytes(20_000))
                    .expect("written");
            }),
            // Something else takes the place: a link for a file or a folder, a folder for a file, a pipe.
            12 => self.any(|_| true).iter().for_each(|path| {
                remove(path);
                symlink(self.chance.below(9).to_string(), path).expect("linked");
            }),
            13 => self.any(|path| !is_folder(path)).iter().for_each(|path| {
                remove(path);
                fs::create_dir(path).expect("made");
                fs::write(path.join("inside"), self.chance.bytes(5000)).expect("written");
            }),
            14 => self.any(|path| !is_folder(path)).iter().for_each(|path| {
                remove(path);
                assert!(Command::new("mkfifo").arg(path).status().expect("mkfifo runs").success());
            }),
            15 => self.any(|path| is_file(path) || is_folder(path)).iter().for_each(|path| {
                let mode = if is_folder(path) { 0o700 } else { 0o400 } | u32::try_from(self.chance.below(0o100)).expect("few");
                fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("set");
            }),
            16 => self.any(is_file).iter().for_each(|path| {
                let name: OsString = format!("user.a{}", self.chance.below(3)).into();
                if self.chance.below(3) == 0 {
                    drop(xattr::remove(path, name));
                } else {
                    xattr::set(path, name, &self.chance.bytes(900)).expect("set");
                }
            }),
            _ => {
                let (one, two, between) = (self.any(is_file), self.any(is_file), self.root.join("between"));
                if let (Some(one), Some(two)) = (one, two)
                    && one != two
                {
                    fs::rename(&one, &between).expect("renamed");
                    fs::rename(&two, &one).expect("renamed");
                    fs::rename(&between, &two).expect("renamed");
                }
            }
        }
    }

    fn in_file(&self, act: impl Fn(&File, usize, &Self)) {
        if let Some(path) = self.any(is_file) {
            let mode = fs::metadata(&path).expect("there").permissions();
            fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).expect("set");
            let file = File::options().read(true).write(true).open(&path).expect("opens");
            let len = usize::try_from(file.metadata().expect("there").len()).expect("short");
            act(&file, len, self);
            fs::set_permissions(&path, mode).expect("set back");
        }
    }
}

/// Replaces what is in a folder as fast as it can: whatever a run meets there, it ends.
fn churn(folder: &Path, over: &AtomicBool) {
    let chance = Chance::of("churn");
    while !over.load(Ordering::SeqCst) {
        let path = folder.join(chance.below(12).to_string());
        let _ = if is_folder(&path) { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
        match chance.below(5) {
            0 => drop(fs::create_dir(&path).and_then(|()| fs::write(path.join("inner"), chance.bytes(3000)))),
            1 => drop(symlink("/etc", &path)),
            2 => drop(Command::new("mkfifo").arg(&path).status()),
            _ => drop(fs::write(&path, chance.bytes(200_000))),
        }
    }
}

fn keep(station: &Workstation, folder: &Path) {
    let mut selection = station.home.selection().expect("readable");
    selection.include(folder).expect("kept");
    station.home.write_selection(&selection).expect("written");
}

pub(crate) fn restored(office: &Office, station: &Workstation, at: &At, folder: &Path) -> Vec<String> {
    let back = office.path("back");
    let wish = Wish::paths(vec![folder.into()], Target::Into(back.clone())).rights(Rights::Keep);
    let report = station.restore(at, &wish).expect("restored");
    assert!(report.troubles.is_empty(), "{:?}", report.troubles);
    let found = listing(&back.join(folder.file_name().expect("a name")));
    fs::remove_dir_all(back).expect("removed");
    found
}

fn work(seed: u64, rounds: u64) {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    let (busy, stick) = (office.path("busy"), office.path("stick"));
    fs::create_dir_all(&busy).expect("made");
    keep(&station, &busy);
    let has_stick = !cfg!(no_mounts);
    let mut mounted = has_stick.then(|| Mounted::new(&stick, "4m"));
    if has_stick {
        fs::write(stick.join("on the stick"), "here").expect("written");
        keep(&station, &stick);
    }
    let root = station.folder.clone();
    let mut tree = Tree::new(root.clone(), &format!("seed {seed}"));
    (0..40).for_each(|_| tree.change());
    let over = AtomicBool::new(false);
    let mut was: Vec<(u64, Vec<String>)> = Vec::new();
    std::thread::scope(|threads| {
        threads.spawn(|| churn(&busy, &over));
        // Also when the test fails: the scope waits for the thread.
        let _over = Over(&over);
        for round in 0..rounds {
            (0..tree.chance.below(14)).for_each(|_| tree.change());
            if round % 7 == 3 {
                mounted = None;
            } else if has_stick && round % 7 == 5 {
                mounted = Some(Mounted::new(&stick, "4m"));
            }
            let before = listing(&root);
            let report = station.back_up().unwrap_or_else(|e| panic!("seed {seed}, round {round}: {e}"));
            let of_tree = report.listed.iter().filter(|one| one.path.starts_with(root.as_os_str().as_encoded_bytes())).count();
            assert_eq!(of_tree, 0, "seed {seed}, round {round}: {:?}", report.listed);
            let of_stick = report.listed.iter().any(|one| one.path.starts_with(stick.as_os_str().as_encoded_bytes()));
            assert!(
                !has_stick || !(3..5).contains(&(round % 7)) || of_stick,
                "seed {seed}, round {round}: a volume that is away is named"
            );
            assert_eq!(restored(&office, &station, &At::Latest, &root), before, "seed {seed}, round {round}");
            was.push((report.point.sequence, before));
            if round % 5 == 4 {
                let (sequence, before) = &was[tree.chance.below(was.len())];
                assert_eq!(
                    &restored(&office, &station, &At::Sequence(*sequence), &root),
                    before,
                    "seed {seed}, point {sequence}"
                );
            }
        }
    });
}

/// Ends the churn when it is dropped.
struct Over<'o>(&'o AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

#[test]
fn whatever_happens_to_a_tree_each_point_is_what_it_was() {
    let rounds = wanted("JETFROST_ROUNDS", 8);
    (0..wanted("JETFROST_SEEDS", 1)).for_each(|seed| work(seed, rounds));
}
