//! Bringing files back.

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use batch::Worker;
use file::{Writer, gains_past_cache};
use jetfrost_platform::{Accounts, FileKind, Paths, System};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::{Phase, Progress};
use jetfrost_wire::{RestoreId, RestoreOrderId};
use journal::Journal;
use pinned::PinnedFolders;
use place::Placing;
use plan::{Planner, With};
use put::MetadataApplier;
pub(crate) use sample::Sample;

use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::progress::Meter;

mod batch;
mod file;
mod journal;
mod ordered;
mod pinned;
mod place;
mod plan;
mod preview;
mod put;
mod sample;

pub(crate) use journal::{others_in, unfinished};
pub(crate) use ordered::restore_ordered;
pub use place::{Asking, Conflict, OnConflict, Resolution, Target};
pub use preview::{Act, Preview, Previewed, preview};

type Result<T> = std::result::Result<T, ClientError>;

/// What is to be brought back, and where to.
#[derive(Debug, Clone)]
pub struct Wish {
    /// Absolute paths within the point; none for everything.
    pub paths: Vec<PathBuf>,
    /// Where they are put.
    pub target: Target,
    /// What happens when something else has the name.
    pub on_conflict: OnConflict,
    /// What becomes of what gives rights.
    pub rights: Rights,
    /// Whose it becomes.
    pub owners: Owners,
    /// Whether the directory that it goes into has to be there, with no link on the way to it.
    pinned: bool,
}

impl Wish {
    /// Everything, into a directory.
    #[must_use]
    pub fn everything(into: impl Into<PathBuf>) -> Self {
        Self::paths(Vec::new(), Target::Into(into.into()))
    }

    /// What was at these paths.
    #[must_use]
    pub fn paths(paths: Vec<PathBuf>, target: Target) -> Self {
        Self {
            paths,
            target,
            on_conflict: OnConflict::default(),
            rights: Rights::default(),
            owners: Owners::default(),
            pinned: false,
        }
    }

    /// With this for names that something else has.
    #[must_use]
    pub fn on_conflict(self, on_conflict: OnConflict) -> Self {
        Self { on_conflict, ..self }
    }

    /// With this for what gives rights.
    #[must_use]
    pub fn rights(self, rights: Rights) -> Self {
        Self { rights, ..self }
    }

    /// With this for whose it becomes.
    #[must_use]
    pub fn owners(self, owners: Owners) -> Self {
        Self { owners, ..self }
    }

    /// With the directory that it goes into by the path that leads through no link, if that is there: the links are whoever named it's
    /// own; afterwards none is followed.
    fn without_links(&self) -> Self {
        let target = match &self.target {
            Target::Into(directory) if !self.pinned => {
                Target::Into(directory.canonicalize().unwrap_or_else(|_| directory.clone()))
            }
            other => other.clone(),
        };
        Self { target, ..self.clone() }
    }

    /// Whether it can be done.
    fn check(&self) -> Result<()> {
        if self.target == Target::Beside && self.paths.iter().all(|path| path.file_name().is_none()) {
            return Err(ClientError::NothingBeside);
        }
        if matches!(self.target, Target::Into(_)) { no_two_of_one_name(&self.paths) } else { Ok(()) }
    }

    /// The directory that all of it goes into or below, as far as it is there: it keeps the journal.
    fn base(&self) -> PathBuf {
        if let Target::Into(directory) = &self.target {
            return directory.clone();
        }
        let common = |one: PathBuf, other: &Path| one.ancestors().find(|folder| other.starts_with(folder)).map(Path::to_path_buf);
        let mut parents = self.paths.iter().filter_map(|path| path.parent());
        let first = parents.next().map(Path::to_path_buf);
        let shared = first.and_then(|first| parents.try_fold(first, common)).unwrap_or_else(|| "/".into());
        let is_folder = |folder: &&Path| System::metadata_of(folder).is_ok_and(|there| there.kind == Some(FileKind::Directory));
        shared.ancestors().find(is_folder).unwrap_or(Path::new("/")).into()
    }
}

/// What becomes of what gives rights on the machine that it is brought back to: device nodes, files that run as their owner or
/// group, and capabilities.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Rights {
    /// Root brings them back only where a whole system is restored: into `/`, or everything to where it was. Others have no more rights
    /// by them than before.
    #[default]
    OfSystemOnly,
    /// They come back.
    Keep,
    /// They do not.
    LeaveOut,
}

/// Whose what is brought back becomes, where root does it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Owners {
    /// The user and group of the same name on this machine; where there is none, of the same number.
    #[default]
    ByName,
    /// Of the same number: what is brought back is a system with accounts of its own.
    ByNumber,
}

impl Rights {
    fn are_left_out(self, wish: &Wish) -> bool {
        let is_system = match &wish.target {
            // The store may be another machine's, whose root is not this one's.
            Target::Original => wish.paths.is_empty(),
            Target::Beside => false,
            Target::Into(into) => !std::fs::canonicalize(into).is_ok_and(|into| into != Path::new("/")),
        };
        match self {
            Self::Keep => false,
            Self::LeaveOut => true,
            Self::OfSystemOnly => System::is_administrator() && !is_system,
        }
    }
}

/// Why something was not brought back as it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Something of that name is there, and was left as it is.
    Exists,
    /// Its stored bytes are damaged or missing.
    Damaged,
    /// The system refused.
    System,
    /// It kept changing when it was backed up: what is there may be a mixture.
    Unsettled,
    /// There was no room where it was to be.
    NoRoom,
    /// The file system where it was to be does not take such an attribute.
    Unsupported,
    /// A drill brought it back otherwise than it was.
    Differs,
}

/// Something that was not brought back as it was.
#[derive(Debug, Clone)]
pub struct NotRestored {
    /// Where it was to be.
    pub path: PathBuf,
    /// Why.
    pub trouble: Trouble,
    /// In words.
    pub explanation: String,
}

/// What a restore came to.
#[derive(Debug)]
pub struct RestoreReport {
    /// How far it came.
    pub progress: Progress,
    /// What was not brought back as it was, by path.
    pub troubles: Vec<NotRestored>,
    /// What got another name, because something else has its own: its own name first.
    pub kept_both: Vec<(PathBuf, PathBuf)>,
    /// What was not brought back because the same is there.
    pub already_there: u64,
    /// Whether owners were left to be this user, since only root can set others.
    pub owners_left: bool,
    /// Device nodes, rights to run as the owner or group, and capabilities that were left out.
    pub rights_left_out: u64,
    /// Which restore it is on record.
    pub on_record: Option<RestoreId>,
    /// Why the service could not put this restore on record, if so.
    pub not_on_record: Option<ClientError>,
    /// How long it took.
    pub took: Duration,
}

/// Said of what is not brought back because of what is there.
const STAYED: &str = "something of this name is there; it was left as it is";

/// Collects what was not brought back as it was.
#[derive(Debug, Clone, Default)]
pub(crate) struct Troubles(Arc<Mutex<Vec<NotRestored>>>);

impl Troubles {
    pub(crate) fn add(&self, path: &Path, trouble: Trouble, explanation: impl Into<String>) {
        let trouble = NotRestored { path: path.into(), trouble, explanation: explanation.into() };
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
    }

    fn system(&self, path: &Path, error: &std::io::Error) {
        let trouble = match error.kind() {
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => Trouble::NoRoom,
            ErrorKind::AlreadyExists => return self.add(path, Trouble::Exists, STAYED),
            _ => Trouble::System,
        };
        self.add(path, trouble, error.to_string());
    }

    /// The paths with which there was trouble.
    pub(crate) fn paths(&self) -> HashSet<PathBuf> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).iter().map(|trouble| trouble.path.clone()).collect()
    }

    /// All of them, by path.
    pub(crate) fn take(&self) -> Vec<NotRestored> {
        let mut all = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        all.sort_by(|a, b| a.path.cmp(&b.path));
        all
    }
}

/// Collects what got another name.
#[derive(Debug, Clone, Default)]
pub(crate) struct KeptBoth(Arc<Mutex<Vec<(PathBuf, PathBuf)>>>);

impl KeptBoth {
    fn note(&self, wanted: &Path, placed: &Path) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push((wanted.into(), placed.into()));
    }

    fn take(&self) -> Vec<(PathBuf, PathBuf)> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Brings back what is wished for from a point, and puts it on record.
///
/// # Errors
/// [`ClientError`] when it could not be done at all; single files that could not be brought back are in the report.
pub fn restore(browser: &Browser, point: &OpenPoint, wish: &Wish, meter: &Arc<Meter>) -> Result<RestoreReport> {
    restore_for(browser, point, wish, None, meter)
}

/// Restores; for an order, if there is one.
fn restore_for(
    browser: &Browser,
    point: &OpenPoint,
    wish: &Wish,
    order: Option<RestoreOrderId>,
    meter: &Arc<Meter>,
) -> Result<RestoreReport> {
    let started = Instant::now();
    wish.check()?;
    let scope = if wish.paths.is_empty() { Scope::Everything } else { Scope::Selection };
    let target = Some(wish.target.on_record());
    let begin = BeginRestore { point: point.head.sequence, scope, purpose: Purpose::Restore, target, order };
    let record = browser.source.begin_restore(&begin, meter)?;
    let (troubles, on_record) = (Troubles::default(), record.id());
    meter.enter(Phase::Sending);
    if scope == Scope::Everything {
        meter.expect(point.head.files, point.head.bytes);
    }
    let result = put_back(browser, point, wish, None, meter, &troubles);
    let troubles = troubles.take();
    let (Done { left_out, mut kept_both, already_there }, not_on_record) =
        record.end(result, meter, |_| troubles.len() as u64)?;
    kept_both.sort();
    Ok(RestoreReport {
        progress: meter.progress(),
        troubles,
        kept_both,
        already_there,
        owners_left: left_out.owners,
        rights_left_out: left_out.rights,
        on_record,
        not_on_record,
        took: started.elapsed(),
    })
}

/// What is asked for by its path is put directly into a directory or archive: two of one name would become one.
pub(crate) fn no_two_of_one_name(paths: &[PathBuf]) -> Result<()> {
    let mut seen: HashMap<&OsStr, &PathBuf> = HashMap::new();
    for path in paths {
        if let Some(other) = path.file_name().and_then(|name| seen.insert(name, path)).filter(|other| *other != path) {
            return Err(ClientError::SameName { one: other.clone(), other: path.clone() });
        }
    }
    Ok(())
}

/// What was not set though it could be read.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct LeftOut {
    /// Whether owners were.
    owners: bool,
    /// How many rights were.
    rights: u64,
}

/// What came of putting back.
pub(crate) struct Done {
    left_out: LeftOut,
    kept_both: Vec<(PathBuf, PathBuf)>,
    already_there: u64,
}

/// Plans, fetches and puts in place; of files only those that were drawn, if there is a sample.
pub(crate) fn put_back(
    browser: &Browser,
    point: &OpenPoint,
    wish: &Wish,
    sample: Option<Sample>,
    meter: &Arc<Meter>,
    troubles: &Troubles,
) -> Result<Done> {
    let base = wish.base();
    if !wish.pinned {
        std::fs::create_dir_all(&base).map_err(ClientError::file("making", &base))?;
    }
    let wish = &wish.without_links();
    let base = wish.base();
    let folders = Arc::new(PinnedFolders::default());
    let applier = MetadataApplier::new(troubles.clone(), wish.rights.are_left_out(wish), wish.owners);
    let journal = Journal::begin(&folders, &base, point.head.id);
    let past_cache = gains_past_cache(&base);
    let kept_both = KeptBoth::default();
    // A drill's is removed again.
    let is_to_last = sample.is_none();
    let (batches, waiting) = crossbeam_channel::bounded(BATCHES);
    let (ended, rest) = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..WORKERS)
            .map(|_| {
                let writer = Writer::new(meter, troubles, &applier, past_cache);
                let worker = Worker { browser, writer, batches: waiting.clone() };
                scope.spawn(move || worker.run())
            })
            .collect();
        drop(waiting);
        let placing = Placing::new(&browser.keys, &wish.on_conflict, &point.head, Arc::clone(&folders));
        let with = With { placing, pinned: folders, base: &base, sample, kept_both: kept_both.clone() };
        let mut planner = Planner::new(browser, wish, with, meter, &applier, journal, batches);
        let planned = planner.plan(point).and_then(|()| planner.flush());
        let rest = planner.finish();
        // A worker's failure is the cause of the planner's.
        let panicked = || Err(ClientError::Unexpected("a thread of the restore panicked".into()));
        let fetched = workers.into_iter().map(|worker| worker.join().unwrap_or_else(|_| panicked())).fold(Ok(()), Result::and);
        (fetched.and(planned), rest)
    });
    let already_there = rest.already_there();
    match ended {
        Ok(()) => rest.complete(browser, &applier, troubles, is_to_last.then_some(base.as_path()))?,
        Err(cause) => {
            rest.leave_unfinished(&applier, meter.progress().files_done);
            return Err(cause);
        }
    }
    Ok(Done { left_out: applier.left_out(), kept_both: kept_both.take(), already_there })
}

/// Batches that wait, and threads that fetch them.
const BATCHES: usize = 4;
const WORKERS: usize = 3;
