//! Where something changed since everything was looked at, as the system tells it. A run looks only there.
//!
//! What the system tells is only ever used to save work. All that it told since a run looked everywhere counts, a day at most. After
//! anything that could have hidden a change (more changes than the system keeps, another mount or selection, another backup, the start of
//! the agent) a run looks everywhere. If it turns out once that the system did not tell of a change, it is not believed any more until the
//! agent starts again.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_platform::{ChangeWatch, Changes, Paths, System, Volumes, Watch};
use jiff::{SignedDuration, Timestamp};

use crate::backup::{ChangeHints, Looked};
use crate::scan::FolderId;
use crate::selection::Selection;

/// After so long a run looks everywhere.
const LOOK_EVERYWHERE_AFTER: SignedDuration = SignedDuration::from_hours(24);
/// Where more folders changed, it is as quick.
const MOST_FOLDERS: usize = 50_000;

/// What the system told of changes.
#[derive(Default, Clone)]
pub(super) struct ChangeTracker(Arc<Mutex<State>>);

#[derive(Default)]
struct State {
    watch: Option<Watch>,
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
        let folders: Vec<PathBuf> = selection.folders.iter().map(|folder| folder.0.clone()).collect();
        let matters = |mount: &PathBuf| folders.iter().any(|folder| folder.starts_with(mount) || mount.starts_with(folder));
        let mounts = System::mount_points().unwrap_or_default().into_iter().filter(matters);
        let volume = |mount: &PathBuf| System::metadata_behind(mount).ok().map(|found| found.volume);
        let mounts = mounts.map(|mount| (mount.clone(), volume(&mount))).collect();
        Self { folders, mounts }
    }
}

impl ChangeTracker {
    /// Takes in what the system told meanwhile: it keeps only so much.
    pub(super) fn gather(&self) {
        self.lock().gather();
    }

    /// A run begins. What it may go by, if not everything is to be looked at.
    pub(super) fn begin(&self, selection: &Selection, now: Timestamp) -> Option<ChangeHints> {
        let mut state = self.lock();
        let places = Places::of(selection);
        if state.watch.is_none() || state.places != places {
            // Where it cannot be watched, every run looks everywhere.
            state.watch = if state.is_wrong { None } else { Watch::begin(&places.folders).ok().flatten() };
            state.places = places;
            state.since = None;
        }
        state.gather();
        let recently =
            |since: &Since| (SignedDuration::ZERO..LOOK_EVERYWHERE_AFTER).contains(&now.duration_since(since.everywhere));
        match state.since.clone().filter(|since| state.watch.is_some() && recently(since)) {
            Some(since) => {
                state.begun = Some(Begun { at: now, before: HashSet::new(), is_untold: false });
                let tracker = self.clone();
                let volumes = state.watch.as_ref().map(Watch::volumes).unwrap_or_default();
                Some(ChangeHints { volumes, since: since.point, now: Box::new(move || tracker.lock().now()) })
            }
            None => {
                let before = std::mem::take(&mut state.changed);
                state.begun = Some(Begun { at: now, before, is_untold: false });
                None
            }
        }
    }

    /// A run ended; if it made a point, which, and where it looked.
    pub(super) fn end(&self, made: Option<(&str, Looked)>) {
        let mut state = self.lock();
        let Some(Begun { at, before, is_untold }) = state.begun.take() else { return };
        let Some((point, looked)) = made else {
            state.changed.extend(before);
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
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl State {
    /// Where something may have changed by now: also where files are open for writing, since not every change of those is told.
    fn now(&mut self) -> Option<HashSet<FolderId>> {
        self.gather();
        let open = self.watch.as_ref()?.being_written().ok()?;
        self.changed.extend(open.into_iter().map(|(volume, file)| FolderId { volume, file }));
        self.since.as_ref().map(|_| self.changed.clone())
    }

    /// Something changed, and it is not known where.
    fn lose(&mut self) {
        self.since = None;
        self.begun.iter_mut().for_each(|begun| begun.is_untold = true);
    }

    fn gather(&mut self) {
        let Some(watch) = &mut self.watch else { return };
        match watch.changes() {
            Ok(Changes::In(folders)) if self.changed.len() + folders.len() <= MOST_FOLDERS => {
                self.changed.extend(folders.into_iter().map(|(volume, file)| FolderId { volume, file }));
            }
            Ok(_) => self.lose(),
            Err(_) => *self = Self { is_wrong: self.is_wrong, ..Self::default() },
        }
    }
}

#[cfg(test)]
mod tests {
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
        let (tracker, now) = (ChangeTracker::default(), Timestamp::UNIX_EPOCH);
        let looks_everywhere = || tracker.begin(&selection, now).is_none();
        assert!(looks_everywhere());
        tracker.lock().lose();
        tracker.end(Some(("first", Looked::Everywhere)));
        assert!(looks_everywhere());
        tracker.end(Some(("second", Looked::Everywhere)));
        let hints = tracker.begin(&selection, now).expect("on a volume that tells");
        assert_eq!(hints.since, "second");
        tracker.end(Some(("third", Looked::WhereChanged)));
        assert_eq!(tracker.begin(&selection, now).expect("still").since, "third");
    }

    #[test]
    fn after_a_day_or_by_a_clock_that_was_set_back_or_once_a_change_was_not_told_it_looks_everywhere() {
        let (_directory, selection) = selection();
        let (tracker, now) = (ChangeTracker::default(), Timestamp::UNIX_EPOCH);
        let whole = |at| {
            let looks_everywhere = tracker.begin(&selection, at).is_none();
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
}
