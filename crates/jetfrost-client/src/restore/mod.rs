//! Bringing files back.

mod batch;
mod draw;
mod file;
mod plan;
mod put;

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jetfrost_wire::restore::Scope;
use jetfrost_wire::run::{Phase, Progress};

use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::progress::Meter;
use batch::Worker;
pub(crate) use draw::Draw;
use file::{Writer, gains_past_cache};
use plan::Planner;
use put::Dresser;

type Result<T> = std::result::Result<T, ClientError>;

/// What is to be brought back, and where to.
#[derive(Debug, Clone)]
pub struct Wish {
    /// Absolute paths within the point; none for everything.
    pub paths: Vec<PathBuf>,
    /// The directory that they are put into; made if it is not there.
    pub into: PathBuf,
    /// Whether existing files are replaced. Otherwise they stay, and are listed.
    pub replace: bool,
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
    /// Whether owners were left to be this user, since only root can set others.
    pub owners_left: bool,
    /// How long it took.
    pub took: Duration,
}

/// Collects what was not brought back as it was.
#[derive(Debug, Clone, Default)]
pub(crate) struct Troubles(Arc<Mutex<Vec<NotRestored>>>);

impl Troubles {
    pub(crate) fn add(&self, path: &Path, trouble: Trouble, explanation: impl Into<String>) {
        let trouble = NotRestored { path: path.into(), trouble, explanation: explanation.into() };
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
    }

    fn system(&self, path: &Path, error: &std::io::Error) {
        self.add(path, Trouble::System, error.to_string());
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

/// Brings back what is wished for from a point, and puts it on record.
///
/// # Errors
/// [`ClientError`] when it could not be done at all; single files that could not be brought back are in the report.
pub fn restore(browser: &Browser, point: &OpenPoint, wish: &Wish, meter: &Arc<Meter>) -> Result<RestoreReport> {
    let started = Instant::now();
    no_two_of_one_name(&wish.paths)?;
    let scope = if wish.paths.is_empty() { Scope::Everything } else { Scope::Selection };
    let record = browser.shelf.begin_restore(point.head.sequence, scope, meter)?;
    let troubles = Troubles::default();
    meter.enter(Phase::Sending);
    if scope == Scope::Everything {
        meter.expect(point.head.files, point.head.bytes);
    }
    let result = bring_back(browser, point, wish, None, meter, &troubles);
    let troubles = troubles.take();
    let progress = meter.progress();
    let owners_left = record.end(result, progress, |_| troubles.len() as u64)?;
    Ok(RestoreReport { progress, troubles, owners_left, took: started.elapsed() })
}

/// What is asked for by its path is put directly into the directory: two of one name would become one.
fn no_two_of_one_name(paths: &[PathBuf]) -> Result<()> {
    let mut seen: HashMap<&OsStr, &PathBuf> = HashMap::new();
    for path in paths {
        if let Some(other) = path.file_name().and_then(|name| seen.insert(name, path)).filter(|other| *other != path) {
            return Err(ClientError::SameName { one: other.clone(), other: path.clone() });
        }
    }
    Ok(())
}

/// Plans, fetches and puts in place; of files only those that were drawn, if there is a draw. Says whether owners could not be
/// set.
pub(crate) fn bring_back(
    browser: &Browser,
    point: &OpenPoint,
    wish: &Wish,
    draw: Option<Draw>,
    meter: &Arc<Meter>,
    troubles: &Troubles,
) -> Result<bool> {
    std::fs::create_dir_all(&wish.into).map_err(ClientError::file("making", &wish.into))?;
    let dresser = Dresser::new(troubles.clone());
    let past_cache = gains_past_cache(&wish.into);
    let (batches, waiting) = crossbeam_channel::bounded(BATCHES);
    let planned = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..WORKERS)
            .map(|_| {
                let writer = Writer::new(meter, troubles, &dresser, past_cache);
                let worker = Worker { browser, writer, batches: waiting.clone() };
                scope.spawn(move || worker.run())
            })
            .collect();
        drop(waiting);
        let mut planner = Planner::new(browser, wish, draw, meter, troubles, &dresser, batches);
        let planned = planner.plan(point).and_then(|()| planner.flush());
        let rest = planner.finish();
        // A worker's failure is the cause of the planner's.
        for worker in workers {
            worker.join().unwrap_or_else(|_| Err(ClientError::Unexpected("a thread of the restore panicked".into())))?;
        }
        planned.map(|()| rest)
    })?;
    planned.complete(&dresser, troubles);
    Ok(dresser.left_owners())
}

/// Batches that wait, and threads that fetch them.
const BATCHES: usize = 4;
const WORKERS: usize = 3;
