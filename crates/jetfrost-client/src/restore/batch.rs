//! Fetching chunks in batches and writing them where they belong.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use crossbeam_channel::Receiver;
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::Opener;
use jetfrost_image::format::Entry;

use super::put::{Bare, Dresser};
use super::{Result, Trouble, Troubles};
use crate::browse::Browser;
use crate::error::ClientError;
use crate::progress::Meter;

/// A file on its way: written under a temporary name, and given its own when it is whole.
pub(super) struct FileJob {
    pub(super) path: PathBuf,
    pub(super) temporary: PathBuf,
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

/// A chunk and where it goes.
pub(super) struct Piece {
    pub(super) job: Arc<FileJob>,
    pub(super) offset: u64,
    pub(super) name: ChunkName,
}

pub(super) type Batch = Vec<Piece>;

/// Fetches batches until there are no more.
pub(super) struct Worker<'w> {
    pub(super) browser: &'w Browser,
    pub(super) meter: &'w Arc<Meter>,
    pub(super) troubles: &'w Troubles,
    pub(super) dresser: &'w Dresser,
    pub(super) batches: Receiver<Batch>,
}

impl Worker<'_> {
    pub(super) fn run(self) -> Result<()> {
        let mut opener = Opener::new(self.browser.keys.clone());
        while let Ok(batch) = self.batches.recv() {
            if self.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            self.fetch(&batch, &mut opener)?;
        }
        Ok(())
    }

    fn fetch(&self, batch: &Batch, opener: &mut Opener) -> Result<()> {
        let names: Vec<ChunkName> = batch.iter().map(|piece| piece.name).collect();
        self.browser.shelf.fetch(&names, |i, sealed| {
            self.meter.sent(sealed.as_ref().map_or(0, Vec::len) as u64);
            self.put(&batch[i], sealed, opener);
            Ok(())
        })
    }

    fn put(&self, piece: &Piece, sealed: Option<Vec<u8>>, opener: &mut Opener) {
        let job = &piece.job;
        let opened = sealed.and_then(|mut sealed| opener.open(&piece.name, &mut sealed).ok());
        match opened {
            None => {
                if !job.failed.swap(true, Ordering::AcqRel) {
                    self.troubles.add(&job.path, Trouble::Damaged, "a piece of it is damaged or missing in the image store");
                }
            }
            Some(_) if job.failed.load(Ordering::Acquire) => {}
            Some(content) => match job.open().and_then(|file| file.write_all_at(&content, piece.offset)) {
                Ok(()) => self.meter.bytes_done(content.len() as u64),
                Err(error) => {
                    if !job.failed.swap(true, Ordering::AcqRel) {
                        self.troubles.system(&job.path, &error);
                    }
                }
            },
        }
        job.piece_done(self.dresser, self.troubles, self.meter);
    }
}
