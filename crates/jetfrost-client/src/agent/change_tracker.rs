//! Where something changed since everything was looked at, as the system tells it. A run looks only there.
//!
//! What the system tells is only ever used to save work. All that it told since a run looked everywhere counts, a day at most. After
//! anything that could have hidden a change (more changes than the system keeps, another mount or selection, another backup, the start of
//! the agent) a run looks everywhere. Where only single folders can be watched, each is from the moment a run lists it. If it turns out once that the system did not tell of a change, it is not believed any more until the
//! agent starts again.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use std::{io, thread};

use jetfrost_platform::{ChangeWatch, Changes, Directory, Paths, System, Volumes, Watch};
use jiff::{SignedDuration, Timestamp};

use crate::backup::{ChangeHints, Looked, Told};
use crate::scan::FolderId;
use crate::selection::Selection;

/// After so long a run looks everywhere.
const LOOK_EVERYWHERE_AFTER: SignedDuration = SignedDuration::from_hours(24);
/// Where more folders changed, it is as quick.
const MOST_FOLDERS: usize = 50_000;
/// Folders told of at once that mean that much is going on.
const MANY_FOLDERS: usize = 50;
/// How long what is told may gather, and how often it is looked whether anybody still wants it.
const GATHER_AGAIN: Duration = Duration::from_millis(500);
const LOOK_WHETHER_WATCHED: Duration = Duration::from_secs(60);

/// What the system told of changes.
#[derive(Clone)]
pub(super) struct ChangeTracker {
    state: Arc<Mutex<State>>,
    /// Whether whole volumes may be watched.
    whole_volumes: bool,
}

#[derive(Default)]
struct State {
    watch: Option<Watch>,
    /// Goes with the watch: whoever gathers what it tells ends when this is gone.
    watching: Option<Arc<()>>,
    /// What is watched.
    places: Places,
    /// All folders that were told of since a run looked everywhere.
    changed: HashSet<FolderId>,
    since: Option<Since>,
    /// The run that is under way.
    begun: Option<Begun>,
    /// It did not tell of a change.
    is_wrong: bool,
}

/// A run under way: when it began, and of one that looks everywhere what was told before, which counts again if it fails.
struct Begun {
    at: Timestamp,
    before: HashSet<FolderId>,
    /// Folders that are watched since this run listed them. What changed in them before is only known once it has made its point.
    newly_watched: HashSet<FolderId>,
    /// More changed meanwhile than was told.
    is_untold: bool,
}

/// The last point that the agent made, and when a run last looked everywhere.
#[derive(Clone)]
struct Since {
    point: String,
    everywhere: Timestamp,
}

/// Included folders, and what is mounted around and below them with the volume that it is on.
#[derive(Default, PartialEq, Eq)]
struct Places {
    folders: Vec<PathBuf>,
    mounts: Vec<(PathBuf, Option<u64>)>,
}

impl Places {
    fn of(selection: &Selection) -> Self {
        let mut folders: Vec<PathBuf> = selection.folders.iter().map(|folder| folder.0.clone()).collect();
        folders.extend(selection.mounted_below());
        let matters = |mount: &PathBuf| folders.iter().any(|folder| folder.starts_with(mount) || mount.starts_with(folder));
        let mounts = System::mount_points().unwrap_or_default().into_iter().filter(matters);
        let volume = |mount: &PathBuf| System::metadata_behind(mount).ok().map(|found| found.volume);
        let mounts = mounts.map(|mount| (mount.clone(), volume(&mount))).collect();
        Self { folders, mounts }
    }
}

impl Begun {
    fn new(at: Timestamp, before: HashSet<FolderId>) -> Self {
        Self { at, before, newly_watched: HashSet::new(), is_untold: false }
    }
}

impl ChangeTracker {
    /// Of an account that may watch whole volumes, or single folders.
    pub(super) fn new(whole_volumes: bool) -> Self {
        Self { state: Arc::default(), whole_volumes }
    }

    /// A run begins. What it goes by, where the system tells of changes at all.
    pub(super) fn begin(&self, selection: &Selection, now: Timestamp) -> Option<ChangeHints> {
        let mut state = self.lock();
        let places = Places::of(selection);
        if state.watch.is_none() || state.places != places {
            // Where it cannot be watched, every run looks everywhere.
            let begin = || Watch::begin(&places.folders, self.whole_volumes).ok().flatten();
            state.watch = if state.is_wrong { None } else { begin() };
            state.watching = state.watch.as_ref().and_then(|watch| self.gather_from(watch).ok());
            state.places = places;
            state.since = None;
        }
        state.gather();
        let sees_all_programs = state.watch.as_ref()?.sees_all_programs();
        let recently =
            |since: &Since| (SignedDuration::ZERO..LOOK_EVERYWHERE_AFTER).contains(&now.duration_since(since.everywhere));
        let since = state.since.as_ref().filter(|since| recently(since)).map(|since| since.point.clone());
        let before = if since.is_some() { HashSet::new() } else { std::mem::take(&mut state.changed) };
        state.begun = Some(Begun::new(now, before));
        let (asked, told) = (self.clone(), self.clone());
        Some(ChangeHints {
            since,
            now: Box::new(move || asked.lock().now()),
            about_to_list: Box::new(move |folder| told.lock().about_to_list(folder)),
            sees_all_programs,
        })
    }

    /// Takes in what a watch tells, for as long as it is watched and the returned token is there.
    fn gather_from(&self, watch: &Watch) -> io::Result<Arc<()>> {
        let (watching, wait, state) = (Arc::new(()), watch.waiter()?, Arc::downgrade(&self.state));
        let is_watched = Arc::downgrade(&watching);
        thread::Builder::new().name("changes".into()).spawn(move || {
            while let Ok(is_told) = wait(LOOK_WHETHER_WATCHED) {
                let Some(state) = state.upgrade().filter(|_| is_watched.strong_count() > 0) else { return };
                let more = is_told && state.lock().unwrap_or_else(PoisonError::into_inner).gather();
                drop(state);
                if is_told && !more {
                    // A little at a time is not worth waking up for.
                    thread::sleep(GATHER_AGAIN);
                }
            }
        })?;
        Ok(watching)
    }

    /// A run ended; if it made a point, which, and where it looked.
    pub(super) fn end(&self, made: Option<(&str, Looked)>) {
        let mut state = self.lock();
        let Some(Begun { at, before, newly_watched, is_untold }) = state.begun.take() else { return };
        let Some((point, looked)) = made else {
            state.changed.extend(before);
            state.changed.extend(newly_watched);
            return;
        };
        match (looked, &mut state.since) {
            (Looked::EverywhereInTheEnd, _) => *state = State { is_wrong: true, ..State::default() },
            (Looked::WhereChanged, Some(since)) => point.clone_into(&mut since.point),
            (Looked::WhereChanged, None) => {}
            // What changed behind it while it went on is not known.
            (Looked::Everywhere, _) if is_untold => state.since = None,
            (Looked::Everywhere, _) => state.since = Some(Since { point: point.to_owned(), everywhere: at }),
        }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl State {
    /// Where something may have changed by now: also where files are open for writing, since not every change of those is told.
    fn now(&mut self) -> Option<Told> {
        self.gather();
        let watch = self.watch.as_ref()?;
        let open = watch.being_written().ok()?;
        self.changed.extend(open.into_iter().map(id));
        self.since.as_ref().map(|_| Told { changed: self.changed.clone(), watched: watch.watched() })
    }

    fn about_to_list(&mut self, folder: &Directory) {
        let Some(watch) = &mut self.watch else { return };
        // One that cannot be watched is looked at by every run.
        let added = watch.about_to_list(folder).ok().flatten().map(id);
        self.begun.iter_mut().for_each(|begun| begun.newly_watched.extend(added));
    }

    /// Something changed, and it is not known where.
    fn lose(&mut self) {
        self.since = None;
        self.begun.iter_mut().for_each(|begun| begun.is_untold = true);
    }

    /// Takes in what the system told meanwhile: it keeps only so much. Returns whether that was so much that more will have come by now.
    fn gather(&mut self) -> bool {
        let Some(watch) = &mut self.watch else { return false };
        match watch.changes() {
            Ok(Changes::In(folders)) if self.changed.len() + folders.len() <= MOST_FOLDERS => {
                let many = folders.len() >= MANY_FOLDERS;
                self.changed.extend(folders.into_iter().map(id));
                return many;
            }
            Ok(_) => self.lose(),
            Err(_) => *self = Self { is_wrong: self.is_wrong, ..Self::default() },
        }
        false
    }
}

/// A folder, as the system's border has it.
fn id((volume, file): (u64, u64)) -> FolderId {
    FolderId { volume, file }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use jetfrost_platform::OpenDirectory;

    use super::*;

    /// A selection on a volume that tells of changes; the test's own directory goes with it.
    fn selection() -> (tempfile::TempDir, Selection) {
        let directory = tempfile::tempdir().expect("a directory");
        let mut selection = Selection::default();
        selection.include(directory.path()).expect("there");
        (directory, selection)
    }

    #[test]
    fn what_was_lost_while_a_run_looked_everywhere_makes_the_next_look_everywhere_as_well() {
        let (_directory, selection) = selection();
        let (tracker, now) = (ChangeTracker::new(true), Timestamp::UNIX_EPOCH);
        let begin = || tracker.begin(&selection, now).expect("on a volume that tells").since;
        let looks_everywhere = || begin().is_none();
        assert!(looks_everywhere());
        tracker.lock().lose();
        tracker.end(Some(("first", Looked::Everywhere)));
        assert!(looks_everywhere());
        tracker.end(Some(("second", Looked::Everywhere)));
        assert_eq!(begin().as_deref(), Some("second"));
        tracker.end(Some(("third", Looked::WhereChanged)));
        assert_eq!(begin().as_deref(), Some("third"));
    }

    #[test]
    fn where_more_folders_changed_than_are_kept_a_run_looks_everywhere() {
        let (directory, selection) = selection();
        let root = directory.path().canonicalize().expect("there");
        // Only this folder is watched: others change theirs meanwhile.
        let (tracker, now) = (ChangeTracker::new(false), Timestamp::UNIX_EPOCH);
        let hints = tracker.begin(&selection, now).expect("on a volume that tells");
        assert!(hints.since.is_none());
        (hints.about_to_list)(&Directory::at(&root).expect("opened"));
        tracker.end(Some(("first", Looked::Everywhere)));
        let begin = || tracker.begin(&selection, now).expect("on a volume that tells").since;
        let elsewhere = (0..MOST_FOLDERS as u64).map(|file| FolderId { volume: 0, file });
        tracker.lock().changed.extend(elsewhere);
        assert_eq!(begin().as_deref(), Some("first"), "as many as are kept");
        tracker.end(Some(("second", Looked::WhereChanged)));
        std::fs::write(root.join("one more"), "").expect("written");
        assert!(begin().is_none());
    }

    #[test]
    fn after_a_day_or_by_a_clock_that_was_set_back_or_once_a_change_was_not_told_it_looks_everywhere() {
        let (_directory, selection) = selection();
        let (tracker, now) = (ChangeTracker::new(true), Timestamp::UNIX_EPOCH);
        let whole = |at| {
            let looks_everywhere = tracker.begin(&selection, at).is_none_or(|hints| hints.since.is_none());
            tracker.end(Some(("a point", if looks_everywhere { Looked::Everywhere } else { Looked::WhereChanged })));
            looks_everywhere
        };
        assert!(whole(now) && !whole(now + SignedDuration::from_hours(23)) && whole(now + SignedDuration::from_hours(24)));
        assert!(whole(now), "that is before it last looked everywhere");
        assert!(!whole(now));
        let _ = tracker.begin(&selection, now);
        tracker.end(Some(("a point", Looked::EverywhereInTheEnd)));
        assert!(whole(now) && whole(now));
    }

    /// Else what changed in it before it was watched would not be in the next point either.
    #[test]
    fn a_folder_that_a_failed_run_was_the_first_to_watch_is_looked_at_by_the_next() {
        let (directory, selection) = selection();
        let root = directory.path().canonicalize().expect("there");
        let (tracker, now) = (ChangeTracker::new(false), Timestamp::UNIX_EPOCH);
        let begin = || tracker.begin(&selection, now).expect("on a volume that tells");
        let list = |hints: &ChangeHints, path: &Path| {
            (hints.about_to_list)(&Directory::at(path).expect("opened"));
            let found = System::metadata_of(path).expect("there");
            FolderId { volume: found.volume, file: found.file }
        };
        let at_root = list(&begin(), &root);
        tracker.end(Some(("first", Looked::Everywhere)));
        let below = root.join("below");
        std::fs::create_dir(&below).expect("made");
        let hints = begin();
        let at_below = list(&hints, &below);
        tracker.end(None);
        let told = (hints.now)().expect("told");
        assert!(told.changed.contains(&at_below) && told.changed.contains(&at_root));
        assert!(told.watched.includes((at_below.volume, at_below.file)));
        // And of one that made its point it is not.
        let (hints, another) = (begin(), root.join("below/another"));
        std::fs::create_dir(&another).expect("made");
        let at_another = list(&hints, &another);
        tracker.end(Some(("second", Looked::WhereChanged)));
        assert!(!(hints.now)().expect("told").changed.contains(&at_another));
    }
}
