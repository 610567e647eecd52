//! Where something changed since everything was looked at, as the system tells it. A run looks only there.
//!
//! What the system tells is only ever used to save work. All that it told since a run looked everywhere counts, a day at most. After anything that could have hidden a change (more changes than the system
//! keeps, another mount or selection, another backup, the start of the agent) a run looks everywhere. If it turns out once that the system
//! did not tell of a change, it is not believed any more until the agent starts again.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_platform::{ChangeWatch, Changes, Paths, System, Volumes, Watch};
use jiff::{SignedDuration, Timestamp};

use crate::backup::{BackupReport, ChangeHints, Looked};
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
                state.begun = Some(Begun { at: now, before: HashSet::new() });
                let tracker = self.clone();
                let volumes = state.watch.as_ref().map(Watch::volumes).unwrap_or_default();
                Some(ChangeHints { volumes, since: since.point, now: Box::new(move || tracker.lock().now()) })
            }
            None => {
                let before = std::mem::take(&mut state.changed);
                state.begun = Some(Begun { at: now, before });
                None
            }
        }
    }

    /// A run ended; with a report if it made a point.
    pub(super) fn end(&self, report: Option<&BackupReport>) {
        let mut state = self.lock();
        let Some(Begun { at, before }) = state.begun.take() else { return };
        let Some(report) = report else {
            state.changed.extend(before);
            return;
        };
        let point = report.point_id.clone();
        match (report.looked, &mut state.since) {
            (Looked::EverywhereInTheEnd, _) => *state = State { is_wrong: true, ..State::default() },
            (Looked::WhereChanged, Some(since)) => since.point = point,
            (Looked::WhereChanged, None) => {}
            (Looked::Everywhere, _) => state.since = Some(Since { point, everywhere: at }),
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

    fn gather(&mut self) {
        let Some(watch) = &mut self.watch else { return };
        match watch.changes() {
            Ok(Changes::In(folders)) if self.changed.len() + folders.len() <= MOST_FOLDERS => {
                self.changed.extend(folders.into_iter().map(|(volume, file)| FolderId { volume, file }));
            }
            Ok(_) => self.since = None,
            Err(_) => *self = Self { is_wrong: self.is_wrong, ..Self::default() },
        }
    }
}
