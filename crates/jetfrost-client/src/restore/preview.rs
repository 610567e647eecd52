//! What a restore would do, without doing it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_platform::{FileKind, Paths, System, path_bytes, path_of};

use super::journal::Journal;
use super::place::{Place, Placing};
use super::{OnConflict, Result, Target, Wish};
use crate::browse::{Browser, BrowserSource, OpenPoint, entries_of, find};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::walk_tree::{Met, go_through};

/// What would become of something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// It would come back under its own name, where nothing is.
    New,
    /// It would come back under this name, because something else has its own.
    Renamed(PathBuf),
    /// It would come back in place of what is there.
    Replaces,
    /// Somebody would be asked: something else is there.
    Asks,
    /// It would not come back, for this reason.
    Stays(&'static str),
}

/// Something that would be brought back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Previewed {
    /// The path that it wants.
    pub path: PathBuf,
    /// What would become of it.
    pub act: Act,
    /// Files: one, or of a folder that is not there yet all in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// What a restore would come to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Preview {
    /// Files that would be brought back.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What is there already as it was.
    pub already_there: u64,
    /// What is there with another content.
    pub conflicts: u64,
}

/// Says of everything that is wished for what would become of it. Folders that are not there yet are told as a whole.
///
/// # Errors
/// As [`super::restore`]. Nothing is put on record, for nothing leaves the point but lists.
pub fn preview(
    browser: &Browser,
    point: &OpenPoint,
    wish: &Wish,
    meter: &Arc<Meter>,
    each: &mut dyn FnMut(&Previewed),
) -> Result<Preview> {
    wish.check()?;
    let asks = matches!(wish.on_conflict, OnConflict::Ask(_));
    let on_conflict = if asks { OnConflict::Skip } else { wish.on_conflict.clone() };
    let wish = &wish.without_links();
    let placing = Placing::new(&browser.keys, &on_conflict, &point.head, Arc::default());
    let journal = Journal::default();
    let mut previewing =
        Previewing { browser, source: browser.source(), placing, journal, asks, meter, each, found: Preview::default() };
    previewing.all(point, wish)?;
    Ok(previewing.found)
}

struct Previewing<'p> {
    browser: &'p Browser,
    source: BrowserSource<'p>,
    placing: Placing<'p>,
    journal: Journal,
    asks: bool,
    meter: &'p Meter,
    each: &'p mut dyn FnMut(&Previewed),
    found: Preview,
}

impl Previewing<'_> {
    fn all(&mut self, point: &OpenPoint, wish: &Wish) -> Result<()> {
        let into = match &wish.target {
            Target::Into(directory) => directory.as_path(),
            Target::Original | Target::Beside => Path::new("/"),
        };
        if wish.paths.is_empty() {
            return self.listing(&point.body.root, into);
        }
        for path in &wish.paths {
            match find(&self.source, point, path_bytes(path))? {
                None => self.listing(&point.body.root, into)?,
                Some(entry) if matches!(wish.target, Target::Into(_)) => {
                    let target = into.join(path_of(&entry.name));
                    self.entry(&entry, &target, false)?;
                }
                Some(entry) if leads_through_folders(path) => self.entry(&entry, path, wish.target == Target::Beside)?,
                Some(entry) => {
                    self.tell(path, Act::Stays("a folder on the way there is none any more, or a link"), 1, entry.len());
                }
            }
        }
        Ok(())
    }

    /// What is in a listing, and in the folders that are there already.
    fn listing(&mut self, listing: &Content, into: &Path) -> Result<()> {
        if self.meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        let (entries, read) = entries_of(&self.source, listing);
        entries.iter().try_for_each(|entry| self.entry(entry, &into.join(path_of(&entry.name)), false))?;
        match read {
            Err(error) if error.is_loss() => {
                self.tell(into, Act::Stays("part of this folder's listing is damaged or missing in the image store"), 0, 0);
                Ok(())
            }
            other => other,
        }
    }

    fn entry(&mut self, entry: &Entry, wanted: &Path, beside: bool) -> Result<()> {
        let is_folder = entry.kind == EntryKind::Directory;
        let empty = Content::empty();
        let listing = entry.content.as_ref().unwrap_or(&empty);
        match self.placing.find(&self.source, &self.journal, entry, wanted, beside)? {
            Place::Merged(path) => self.listing(listing, &path)?,
            Place::There(_) => self.found.already_there += 1,
            Place::Free(name) => {
                let act = if name.path() == wanted { Act::New } else { Act::Renamed(name.path()) };
                let (files, bytes) = if is_folder { self.within(listing)? } else { (1, entry.len()) };
                self.found.conflicts += u64::from(name.is_conflict(beside));
                self.tell(wanted, act, files, bytes);
            }
            Place::Over(_) => {
                self.found.conflicts += 1;
                self.tell(wanted, Act::Replaces, 1, entry.len());
            }
            Place::Skipped => {
                self.found.conflicts += 1;
                let act = if self.asks { Act::Asks } else { Act::Stays("something of this name is there") };
                self.tell(wanted, act, 1, entry.len());
            }
        }
        Ok(())
    }

    /// Files and bytes in a folder.
    fn within(&self, listing: &Content) -> Result<(u64, u64)> {
        let (mut files, mut bytes) = (0, 0);
        go_through(self.browser, listing, self.meter, |met| {
            if let Met::Entry(_, entry) = met
                && entry.kind != EntryKind::Directory
            {
                files += 1;
                bytes += entry.len();
            }
            Ok(())
        })?;
        Ok((files, bytes))
    }

    fn tell(&mut self, path: &Path, act: Act, files: u64, bytes: u64) {
        if matches!(act, Act::New | Act::Renamed(_) | Act::Replaces) {
            self.found.files += files;
            self.found.bytes += bytes;
        }
        (self.each)(&Previewed { path: path.into(), act, files, bytes });
    }
}

/// Whether what a path is in are folders, as far as they are there.
fn leads_through_folders(path: &Path) -> bool {
    let is_folder = |folder: &Path| System::metadata_of(folder).map_or(true, |there| there.kind == Some(FileKind::Directory));
    path.ancestors().skip(1).all(is_folder)
}
