//! Backups that look only where the system told of a change, held against what the files were and against backups that look everywhere.
//!
//! `JETFROST_ROUNDS=30` does more of it.

use std::collections::HashSet;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jetfrost_client::ClientError;
use jetfrost_client::agent::{Surroundings, ThisMachine};
use jetfrost_client::backup::{BackupReport, ChangeHints, Looked, ReadBack, Told, back_up_unless_queued};
use jetfrost_client::browse::At;
use jetfrost_client::hooks::{Hook, Hooks};
use jetfrost_client::progress::Meter;
use jetfrost_client::selection::Selection;
use jetfrost_platform::Watched;
use jetfrost_tests::chance::wanted;
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::witness::listing;
use jetfrost_wire::workstation::PointKind;

use crate::oracle::{Tree, restored};
use crate::suspects::adds_up;

/// What leads to the folder is part of a point as well: only one test at a time changes that.
static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

/// Where the volume of a test is mounted.
const PLACE: &str = "/mnt/jetfrost-hints";

/// A workstation whose folder is a volume of its own: other tests change nothing there.
struct Setup {
    office: Office,
    station: Workstation,
    machine: ThisMachine,
    watching: Watching,
    files: Mounted,
    _alone: MutexGuard<'static, ()>,
}

/// How the agent learns of changes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Watching {
    /// As root.
    Volumes,
    /// As other accounts.
    Folders,
}

impl Watching {
    const ALL: [Self; 2] = [Self::Volumes, Self::Folders];

    /// An agent that has just started.
    fn machine(self, station: &Workstation) -> ThisMachine {
        let machine = ThisMachine::new(station.home.clone(), |_| unreachable!("it makes no diagnosis"));
        if self == Self::Folders { machine.watching_single_folders() } else { machine }
    }
}

impl Setup {
    fn new(watching: Watching) -> Self {
        let alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
        let (office, station) = Office::with_station("knot");
        let files = Mounted::new(Path::new(PLACE), "200m");
        let mut selection = Selection::default();
        selection.include(&files.path).expect("there");
        station.home.write_selection(&selection).expect("kept");
        let machine = watching.machine(&station);
        Self { office, station, machine, watching, files, _alone: alone }
    }

    /// The agent starts again.
    fn restart(&mut self) {
        self.machine = self.watching.machine(&self.station);
    }

    fn write(&self, path: &str, text: &str) {
        let path = self.files.path.join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, text).expect("written");
    }

    /// A run of the agent.
    fn run(&self) -> Result<BackupReport, ClientError> {
        self.machine.back_up(&Arc::new(Meter::default())).map(|mut reports| reports.remove(0))
    }

    /// A run to which the system tells of no change.
    fn run_told_of_nothing(&self, since: &str, sees_all_programs: bool) -> BackupReport {
        let volumes = HashSet::from([fs::metadata(&self.files.path).expect("there").dev()]);
        let hints = ChangeHints {
            since: Some(since.into()),
            now: Box::new(move || Some(Told { changed: HashSet::new(), watched: Watched::Volumes(volumes.clone()) })),
            about_to_list: Box::new(|_| ()),
            sees_all_programs,
        };
        let (meter, before) = (Arc::new(Meter::default()), listing(&self.files.path));
        let report = back_up_unless_queued(&self.station.home, PointKind::Files, ReadBack::Sample, Some(&hints), &meter);
        assert_eq!(restored(&self.office, &self.station, &At::Latest, &self.files.path), before);
        report.expect("a point")
    }

    /// A run of the agent, after which everything is in the point as it is.
    fn runs(&self) -> Looked {
        let before = listing(&self.files.path);
        let report = self.run().expect("a point");
        assert_eq!(restored(&self.office, &self.station, &At::Latest, &self.files.path), before);
        report.looked
    }
}

/// As long as files must have rested to be remembered.
fn rest() {
    let written = Instant::now();
    while written.elapsed() < Duration::from_millis(1_200) {
        std::thread::yield_now();
    }
}

#[test]
fn whatever_changes_each_point_is_what_it_was_and_what_a_run_that_looks_everywhere_makes() {
    Watching::ALL.into_iter().for_each(whatever_changes);
}

fn whatever_changes(watching: Watching) {
    let mut setup = Setup::new(watching);
    let mut tree = Tree::new(setup.files.path.clone(), "hints");
    (0..60).for_each(|_| tree.change());
    let rounds = wanted("JETFROST_ROUNDS", 12);
    let (mut looked, mut is_started) = (Vec::new(), true);
    for round in 0..rounds {
        (0..tree.chance.below(6)).for_each(|_| tree.change());
        let before = listing(&tree.root);
        let report = setup.run().unwrap_or_else(|e| panic!("round {round}: {e}"));
        let at = At::Sequence(report.point.sequence);
        assert_eq!(restored(&setup.office, &setup.station, &at, &tree.root), before, "round {round}");
        adds_up(&report);
        assert!(
            !is_started || report.looked == Looked::Everywhere,
            "round {round}: an agent that has just started knows nothing"
        );
        assert_ne!(report.looked, Looked::EverywhereInTheEnd, "round {round}: the system tells of everything");
        looked.push(report.looked);
        is_started = tree.chance.below(6) == 0;
        if is_started {
            setup.restart();
        } else if round % 3 == 0 {
            let everywhere = setup.station.back_up().expect("a point");
            assert_eq!(everywhere.tree, report.tree, "round {round}");
            assert_eq!((everywhere.counts.files, everywhere.counts.folders), (report.counts.files, report.counts.folders));
        }
    }
    let where_changed = looked.iter().filter(|looked| **looked == Looked::WhereChanged).count() as u64;
    assert!(where_changed * 5 >= rounds, "{looked:?}");
}

#[test]
fn a_run_goes_where_something_changed_and_takes_the_rest_over() {
    Watching::ALL.into_iter().for_each(a_run_goes_where_something_changed);
}

fn a_run_goes_where_something_changed(watching: Watching) {
    let setup = Setup::new(watching);
    for n in 0..200 {
        setup.write(&format!("d{}/e{}/f{n}", n % 7, n % 30), &n.to_string());
    }
    assert_eq!(setup.runs(), Looked::Everywhere);
    assert_eq!(setup.runs(), Looked::WhereChanged);
    setup.write("d3/e3/f3", "changed");
    setup.write("new/below/one", "new");
    fs::remove_dir_all(setup.files.path.join("d1")).expect("removed");
    fs::rename(setup.files.path.join("d2"), setup.files.path.join("new/d2")).expect("moved");
    assert_eq!(setup.runs(), Looked::WhereChanged);
    let everywhere = setup.station.back_up().expect("a point");
    assert_eq!((everywhere.looked, everywhere.sent), (Looked::Everywhere, 0));
    // After a backup by hand it looks everywhere, once.
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
}

#[test]
fn after_whatever_could_have_hidden_a_change_a_run_looks_everywhere() {
    Watching::ALL.into_iter().for_each(after_whatever_could_have_hidden_a_change);
}

fn after_whatever_could_have_hidden_a_change(watching: Watching) {
    let mut setup = Setup::new(watching);
    setup.write("letters/one", "dear Aud");
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
    // Another selection.
    let mut selection = setup.station.home.selection().expect("readable");
    selection.exclude("*.tmp").expect("a pattern");
    setup.station.home.write_selection(&selection).expect("kept");
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
    // Something mounted among it, and away again: what it hides is not told of.
    let over = Mounted::new(&setup.files.path.join("letters"), "1m");
    assert_eq!(setup.run().expect("a point").looked, Looked::Everywhere);
    drop(over);
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
    // Two names of one file: what is written by one is seen by the other.
    fs::create_dir(setup.files.path.join("other")).expect("made");
    fs::hard_link(setup.files.path.join("letters/one"), setup.files.path.join("other/same")).expect("linked");
    assert_eq!(setup.runs(), Looked::Everywhere);
    setup.write("other/same", "dear Aud, dear Tove");
    assert_eq!(setup.runs(), Looked::WhereChanged);
    // The agent starts again.
    let _ = setup.run().expect("a point");
    setup.restart();
    assert_eq!(setup.runs(), Looked::Everywhere);
}

/// Whether the system keeps that much depends on how quickly it is read. The point is right both ways.
#[test]
fn more_changes_at_once_than_the_system_may_keep_are_all_in_the_next_point() {
    for watching in Watching::ALL {
        let setup = Setup::new(watching);
        setup.write("letters/one", "dear Aud");
        assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
        for n in 0..20_000 {
            fs::create_dir(setup.files.path.join(format!("n{n}"))).expect("made");
            fs::remove_dir(setup.files.path.join(format!("n{n}"))).expect("removed");
            fs::write(setup.files.path.join(format!("letters/{}", n % 50)), format!("dear {n}")).expect("written");
        }
        assert_ne!(setup.runs(), Looked::EverywhereInTheEnd);
        assert_ne!(setup.runs(), Looked::EverywhereInTheEnd);
    }
}

#[test]
fn what_changed_before_a_run_that_failed_is_in_the_next_point() {
    Watching::ALL.into_iter().for_each(what_changed_before_a_run_that_failed);
}

fn what_changed_before_a_run_that_failed(watching: Watching) {
    let mut setup = Setup::new(watching);
    setup.write("letters/one", "dear Aud");
    setup.write("plans/two", "the plan");
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
    setup.write("letters/one", "dear Tove");
    setup.office.stop();
    assert!(setup.run().is_err());
    setup.office.start();
    setup.write("plans/two", "another plan");
    assert_eq!(setup.runs(), Looked::WhereChanged);
    // And of an agent whose first run fails.
    setup.restart();
    setup.write("letters/one", "dear Ingrid");
    setup.office.stop();
    assert!(setup.run().is_err());
    setup.office.start();
    assert_eq!([setup.runs(), setup.runs()], [Looked::Everywhere, Looked::WhereChanged]);
}

/// What the command before a backup writes, such as a database's dump, is in the point that it was written for.
#[test]
fn what_the_command_before_writes_is_in_the_point_of_the_same_run() {
    let setup = Setup::new(Watching::Volumes);
    setup.write("dumps/today", "");
    setup.write("count", "");
    let script = format!("cd {PLACE} && echo x >> count && cp count dumps/today");
    let arguments = vec!["-c".into(), script];
    let hook = Hook::new("/bin/sh".into(), arguments, 60).expect("a command");
    setup.station.home.write_hooks(&Hooks { before: Some(hook), after: None }).expect("kept");
    for run in 1..=3_u64 {
        let report = setup.run().expect("a point");
        assert_eq!(report.looked == Looked::Everywhere, run == 1);
        let back = restored(&setup.office, &setup.station, &At::Latest, &setup.files.path);
        assert_eq!(back, listing(&setup.files.path));
        assert_eq!(fs::metadata(setup.files.path.join("dumps/today")).expect("there").len(), run * 2);
    }
}

#[test]
fn a_system_that_does_not_tell_of_a_change_is_found_out_and_the_point_is_right_all_the_same() {
    let setup = Setup::new(Watching::Volumes);
    for n in 0..20 {
        setup.write(&format!("d{n}/f"), &n.to_string());
    }
    rest();
    let first = setup.run().expect("a point");
    let run = |since: &str| setup.run_told_of_nothing(since, true);
    let mut latest = run(&first.point_id).point_id;
    for change in [
        |files: &Path| fs::write(files.join("d7/f"), "untold").expect("written"),
        |files: &Path| fs::remove_file(files.join("d8/f")).expect("removed"),
        |files: &Path| fs::write(files.join("d9/new"), "untold").expect("written"),
        |files: &Path| fs::create_dir(files.join("d10/new")).expect("made"),
        |files: &Path| fs::remove_dir_all(files.join("d11")).expect("removed"),
    ] {
        change(&setup.files.path);
        let report = run(&latest);
        assert_eq!(report.looked, Looked::EverywhereInTheEnd);
        let quiet = run(&report.point_id);
        assert_eq!((quiet.looked, quiet.tree), (Looked::WhereChanged, report.tree));
        latest = quiet.point_id;
    }
}

/// Another account's program may have such a file open, which an agent without root does not see, and write to it in ways that are not told.
#[test]
fn without_root_a_file_that_others_may_write_is_looked_at_by_every_run() {
    let setup = Setup::new(Watching::Folders);
    for n in 0..200 {
        setup.write(&format!("d{n}/f"), &n.to_string());
    }
    let files = |n: u32| setup.files.path.join(format!("d{n}/f"));
    std::os::unix::fs::chown(files(3), Some(1_000), None).expect("given away");
    for (n, mode) in [(4, 0o666), (5, 0o664)] {
        fs::set_permissions(files(n), fs::Permissions::from_mode(mode)).expect("set");
    }
    std::os::unix::fs::chown(files(5), None, Some(1_000)).expect("given away");
    rest();
    let mut latest = setup.run().expect("a point").point_id;
    for n in [3, 4, 5] {
        OpenOptions::new().append(true).open(files(n)).and_then(|mut file| file.write_all(b"untold")).expect("written");
        let report = setup.run_told_of_nothing(&latest, false);
        assert_eq!(report.looked, Looked::WhereChanged, "{n}: in such a folder a change is no surprise");
        latest = report.point_id;
    }
}
