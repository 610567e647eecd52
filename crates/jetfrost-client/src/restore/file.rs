//! Files on their way: pieces come in any order, and the last one finishes the file.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use jetfrost_image::format::Entry;
use jetfrost_image::medium::PastCache;

use super::batch::Piece;
use super::put::{Bare, Dresser};
use super::{Trouble, Troubles};
use crate::progress::Meter;

/// A file that is not shorter than this is written past the system's page cache.
const LARGE: u64 = 1 << 20;

/// A file on its way: written under a temporary name, and given its own when it is whole.
pub(super) struct FileJob {
    pub(super) path: PathBuf,
    temporary: PathBuf,
    pub(super) entry: Entry,
    /// Pieces that are still to come, and one for the planner.
    left: AtomicUsize,
    failed: AtomicBool,
    in_place: AtomicBool,
    file: Mutex<Option<Arc<File>>>,
}

impl FileJob {
    pub(super) fn new(path: PathBuf, temporary: PathBuf, entry: Entry) -> Self {
        Self {
            path,
            temporary,
            entry,
            left: AtomicUsize::new(1),
            failed: AtomicBool::new(false),
            in_place: AtomicBool::new(false),
            file: Mutex::new(None),
        }
    }

    pub(super) fn expect_piece(&self) {
        self.left.fetch_add(1, Ordering::AcqRel);
    }

    pub(super) fn fail(&self) {
        self.failed.store(true, Ordering::Release);
    }

    /// Fails, and says why the first time.
    fn fail_for(&self, say_why: impl FnOnce(&Path)) {
        if !self.failed.swap(true, Ordering::AcqRel) {
            say_why(&self.path);
        }
    }

    fn open(&self) -> io::Result<Arc<File>> {
        let mut slot = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = &*slot {
            return Ok(Arc::clone(file));
        }
        let file = Arc::new(OpenOptions::new().write(true).create_new(true).mode(0o600).open(&self.temporary)?);
        Ok(Arc::clone(slot.insert(file)))
    }

    /// Counts down; the last one finishes the file.
    pub(super) fn piece_done(&self, dresser: &Dresser, troubles: &Troubles, meter: &Meter) {
        if self.left.fetch_sub(1, Ordering::AcqRel) > 1 {
            return;
        }
        if let Err(error) = self.finish(dresser) {
            self.fail();
            troubles.system(&self.path, &error);
        }
        if !self.failed.load(Ordering::Acquire) && self.entry.flags().unsettled {
            troubles.add(&self.path, Trouble::Unsettled, "it kept changing while it was backed up: look whether it is sound");
        }
        meter.file_done();
    }

    fn finish(&self, dresser: &Dresser) -> io::Result<()> {
        if self.failed.load(Ordering::Acquire) {
            return Ok(());
        }
        let file = self.open()?;
        // A hole at the end, and a file that is nothing but a hole, have no piece of their own.
        if file.metadata()?.len() != self.entry.len() {
            file.set_len(self.entry.len())?;
        }
        dresser.dress(&Bare::File(&file), &self.path, &self.entry);
        drop(file);
        drop(self.file.lock().unwrap_or_else(PoisonError::into_inner).take());
        fs::rename(&self.temporary, &self.path)?;
        self.in_place.store(true, Ordering::Release);
        Ok(())
    }
}

/// Nothing half-written stays behind, however the restore ends.
impl Drop for FileJob {
    fn drop(&mut self) {
        if !*self.in_place.get_mut() {
            // It may never have been made.
            let _ = fs::remove_file(&self.temporary);
        }
    }
}

/// Writes pieces. Those of a large file that follow each other are gathered.
pub(super) struct Writer<'w> {
    pub(super) meter: &'w Meter,
    troubles: &'w Troubles,
    dresser: &'w Dresser,
    past_cache: bool,
    stretch: Option<Stretch>,
}

/// A stretch of a large file, as far as its pieces have come.
struct Stretch {
    job: Arc<FileJob>,
    writing: PastCache,
    end: u64,
    /// Pieces that are done once it is written.
    pieces: usize,
}

impl<'w> Writer<'w> {
    pub(super) fn new(meter: &'w Meter, troubles: &'w Troubles, dresser: &'w Dresser, past_cache: bool) -> Self {
        Self { meter, troubles, dresser, past_cache, stretch: None }
    }

    /// Puts a piece where it belongs; there is no content when it is damaged or missing.
    pub(super) fn put(&mut self, piece: &Piece, content: Option<&[u8]>) {
        let job = &piece.job;
        if self.stretch.as_ref().is_some_and(|stretch| !Arc::ptr_eq(&stretch.job, job) || stretch.end != piece.offset) {
            self.end_stretch();
        }
        match content {
            None => job.fail_for(|path| {
                self.troubles.add(path, Trouble::Damaged, "a piece of it is damaged or missing in the image store");
            }),
            Some(_) if job.failed.load(Ordering::Acquire) => {}
            Some(content) => match self.write(piece, content) {
                Ok(()) => self.meter.bytes_done(content.len() as u64),
                Err(error) => job.fail_for(|path| self.troubles.system(path, &error)),
            },
        }
        match &mut self.stretch {
            Some(stretch) => stretch.pieces += 1,
            None => job.piece_done(self.dresser, self.troubles, self.meter),
        }
    }

    fn write(&mut self, piece: &Piece, content: &[u8]) -> io::Result<()> {
        let stretch = match &mut self.stretch {
            Some(stretch) => stretch,
            None => {
                let file = piece.job.open()?;
                if !self.past_cache || piece.job.entry.len() < LARGE {
                    return file.write_all_at(content, piece.offset);
                }
                // How it is open changes while it is written, so it is opened once more for this stretch.
                let file = OpenOptions::new().write(true).open(&piece.job.temporary)?;
                let (job, writing) = (Arc::clone(&piece.job), PastCache::at(file, piece.offset));
                self.stretch.insert(Stretch { job, writing, end: piece.offset, pieces: 0 })
            }
        };
        stretch.end += content.len() as u64;
        stretch.writing.write_all(content)
    }

    /// Writes what is gathered. Nothing is finished that is not written.
    pub(super) fn end_stretch(&mut self) {
        let Some(Stretch { job, mut writing, pieces, .. }) = self.stretch.take() else { return };
        if let Err(error) = writing.flush() {
            job.fail_for(|path| self.troubles.system(path, &error));
        }
        drop(writing);
        (0..pieces).for_each(|_| job.piece_done(self.dresser, self.troubles, self.meter));
    }
}
