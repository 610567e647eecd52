//! A catalogue of all names in all points of files, so that something is found whose path nobody knows. It is made from the listings in
//! the image store, kept on this machine, sealed with the store's keys, and brought up to date point by point. Whatever is wrong with
//! one, it is made once more.

mod blocks;
mod file;
mod glob;
mod search;
mod update;

#[cfg(test)]
mod tests;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use jetfrost_image::crypto::Opener;
use jetfrost_image::format::Content;
use jetfrost_wire::point::Point;
use jetfrost_wire::workstation::PointKind;

use crate::browse::{Browser, BrowserSource};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::state_dir::StateDir;
use blocks::{Folders, Names};
use file::CatalogueFile;
use update::{Failed, Listings, Update};

pub use search::{Found, FoundVersion, Pattern};

type Result<T> = std::result::Result<T, ClientError>;

/// All names in all points.
pub struct Catalogue {
    file: CatalogueFile,
    folders: Folders,
    /// Points of files that there are, with their times, as far as the catalogue has them.
    points: Vec<Point>,
    unreadable: Vec<u64>,
}

/// How large a catalogue is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size {
    /// Points that are in it.
    pub points: u64,
    /// Names, each counted again whenever it changed.
    pub names: u64,
    /// Bytes on this machine's disk.
    pub bytes: u64,
}

impl Catalogue {
    /// Brings the catalogue of a store up to date, which is made if there is none.
    ///
    /// # Errors
    /// What the service said; [`ClientError::File`] when it cannot be written; [`ClientError::Stopped`].
    pub fn bring_up_to_date(browser: &Browser, state_dir: &StateDir, meter: &Meter) -> Result<()> {
        with_latest(browser, state_dir, meter, |_, _| Ok(()))
    }

    /// The catalogue of a store, brought up to date.
    ///
    /// # Errors
    /// As [`Catalogue::bring_up_to_date`].
    pub fn up_to_date(browser: &Browser, state_dir: &StateDir, meter: &Meter) -> Result<Self> {
        with_latest(browser, state_dir, meter, Self::of)
    }

    fn of(file: CatalogueFile, points: &[Point]) -> std::result::Result<Self, Failed> {
        let folders = folders_of(&file, &mut file.opener()).ok_or(Failed::Unreadable)?;
        let has = |point: &&Point| file.head.points.iter().any(|known| known.sequence == point.sequence);
        let (points, unreadable): (Vec<&Point>, Vec<&Point>) = points.iter().partition(has);
        let points = points.into_iter().cloned().collect();
        let unreadable = unreadable.into_iter().map(|point| point.sequence).collect();
        Ok(Self { file, folders, points, unreadable })
    }

    /// What matches a pattern, by path.
    ///
    /// # Errors
    /// [`ClientError::Unexpected`] when the disk altered it meanwhile.
    pub fn search(&self, pattern: &Pattern) -> Result<Vec<Found>> {
        let live = self.points.iter().map(|point| point.sequence).collect();
        let found = search::search(&self.file, &self.folders, pattern, &live);
        found.ok_or_else(|| ClientError::Unexpected("the catalogue of names cannot be read any more; search again".into()))
    }

    /// The points that it has, latest first.
    #[must_use]
    pub fn points(&self) -> &[Point] {
        &self.points
    }

    /// Points of which nothing is known, since they are damaged or lost, latest first.
    #[must_use]
    pub fn unreadable(&self) -> &[u64] {
        &self.unreadable
    }

    /// Points of which folders could not be read: they may hold more. Ascending.
    #[must_use]
    pub fn partly_unreadable(&self) -> Vec<u64> {
        self.file.head.points.iter().filter(|point| point.unread > 0).map(|point| point.sequence).collect()
    }

    /// How large it is.
    #[must_use]
    pub fn size(&self) -> Size {
        let head = &self.file.head;
        Size { points: head.points.len() as u64, names: head.names(), bytes: self.file.len() }
    }
}

/// Each store has its own: a machine may read those of others.
fn directory_of(browser: &Browser, state_dir: &StateDir) -> PathBuf {
    state_dir.directory().join("catalogue").join(browser.keys.store.to_string())
}

/// Whether a catalogue is of this store as it is now: one that was set back has other points of the same numbers, or will have. Nor is
/// it where a point can be read that could not be, or was not listed, when those after it were taken in.
fn is_of(browser: &Browser, known: &CatalogueFile, points: &[Point]) -> bool {
    let head = &known.head;
    let last = known.last();
    if points.iter().all(|point| point.sequence < last) {
        return last == 0;
    }
    let find = |sequence: u64| head.points.iter().find(|known| known.sequence == sequence);
    let passed_over = points.iter().filter(|point| point.sequence <= last && !point.lost && find(point.sequence).is_none());
    let can_be_read = |point: &Point| !head.unreadable.contains(&point.sequence) || browser.open_point(point.sequence).is_ok();
    if passed_over.into_iter().any(can_be_read) {
        return false;
    }
    let latest = points.iter().filter(|point| !point.lost).find_map(|point| find(point.sequence));
    // One that is damaged since is the same as before.
    latest.is_none_or(|latest| browser.source.point(latest.sequence).map_or(true, |file| file.head.id.0 == latest.id))
}

/// Brings the catalogue up to date, and gives it to `then`. One that turns out to be unreadable is made once more.
fn with_latest<T>(
    browser: &Browser,
    state_dir: &StateDir,
    meter: &Meter,
    then: impl Fn(CatalogueFile, &[Point]) -> std::result::Result<T, Failed>,
) -> Result<T> {
    let directory = directory_of(browser, state_dir);
    let _lock = file::lock(&directory).map_err(ClientError::file("opening", &directory))?;
    let points: Vec<Point> = browser.points()?.into_iter().filter(|point| point.kind == PointKind::Files).collect();
    let known = CatalogueFile::open(&directory, &browser.keys).filter(|known| is_of(browser, known, &points));
    let latest = |known| latest(browser, &directory, known, &points, meter).and_then(|file| then(file, &points));
    let made = match latest(known) {
        Err(Failed::Unreadable) => latest(None),
        other => other,
    };
    made.map_err(|failed| match failed {
        Failed::Unreadable => ClientError::Unexpected("a catalogue that was just made cannot be read".into()),
        Failed::For(error) => error,
    })
}

fn latest(
    browser: &Browser,
    directory: &Path,
    known: Option<CatalogueFile>,
    points: &[Point],
    meter: &Meter,
) -> std::result::Result<CatalogueFile, Failed> {
    let last = known.as_ref().map_or(0, CatalogueFile::last);
    let missing: Vec<&Point> = points.iter().rev().filter(|point| point.sequence > last).collect();
    let live: BTreeSet<u64> = points.iter().map(|point| point.sequence).collect();
    match known {
        Some(known) if missing.is_empty() => Ok(known),
        Some(known) => take_in(browser, Update::of(known), &missing, &live, meter),
        None => take_in(browser, Update::of(CatalogueFile::begin(directory, &browser.keys)?), &missing, &live, meter),
    }
}

fn take_in(
    browser: &Browser,
    mut update: Update,
    points: &[&Point],
    live: &BTreeSet<u64>,
    meter: &Meter,
) -> std::result::Result<CatalogueFile, Failed> {
    let source = browser.source();
    for point in points {
        let opened = if point.lost { Err(ClientError::Damaged) } else { browser.open_point(point.sequence) };
        match opened {
            Ok(opened) => update.take_in(&source, (point.sequence, opened.head.id), &opened.body.root, meter)?,
            Err(error) if error.is_loss() => update.pass_over(point.sequence),
            Err(error) => return Err(error.into()),
        }
    }
    update.finish(live)
}

impl Listings for BrowserSource<'_> {
    fn fetch_ahead(&self, listings: &[(u32, Content)]) -> Result<()> {
        Self::fetch_ahead(self, listings.iter().map(|(_, listing)| listing))
    }
}

fn folders_of(file: &CatalogueFile, opener: &mut Opener) -> Option<Folders> {
    let mut folders = Folders::default();
    for piece in &file.head.folders {
        folders.add(&Names::from_bytes(&file.read(piece, opener)?)?)?;
    }
    Some(folders)
}
