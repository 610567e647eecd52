//! Files on their way: pieces come in any order, and the last one finishes the file.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use jetfrost_image::ChunkName;
use jetfrost_image::format::Entry;
use jetfrost_image::medium::PastCache;
use jetfrost_platform::{FileContent, Machine, Opening, Restored, System, Volumes};

use super::pinned::PinnedFolders;
use super::place::Destination;
use super::put::MetadataApplier;
use super::{KeptBoth, Trouble, Troubles};
use crate::progress::Meter;

/// A file that is not shorter than this is written past the system's page cache.
const LARGE: u64 = 1 << 20;

/// Whether large files are better written past the page cache here: a copy of all that is brought back would cost time, and drive
/// out of memory what the machine works with. Several threads write to one file, which wants short pages.
pub(super) fn gains_past_cache(directory: &Path) -> bool {
    System::page_size().is_some_and(|len| len <= PastCache::ALIGNED) && System::gains_past_cache(directory)
}

/// A file on its way: written under a temporary name, and given its own when it is whole.
pub(super) struct FileJob {
    destination: Destination,
    /// As a path.
    path: PathBuf,
    temporary: PathBuf,
    entry: Entry,
    folders: Arc<PinnedFolders>,
    kept_both: KeptBoth,
    /// Pieces that are still to come, and one for the planner.
    left: AtomicUsize,
    failed: AtomicBool,
    in_place: AtomicBool,
    file: Mutex<Option<Arc<File>>>,
}

/// A chunk and where it goes.
pub(super) struct Piece {
    pub(super) job: Arc<FileJob>,
    pub(super) offset: u64,
    pub(super) name: ChunkName,
}

impl FileJob {
    pub(super) fn new(
        destination: Destination,
        temporary: PathBuf,
        entry: Entry,
        folders: Arc<PinnedFolders>,
        kept_both: KeptBoth,
    ) -> Self {
        Self {
            path: destination.path(),
            destination,
            temporary,
            entry,
            folders,
            kept_both,
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
        let way = self.folders.way(&self.temporary)?;
        let file = Arc::new(OpenOptions::new().write(true).create_new(true).private().open(way.path())?);
        Ok(Arc::clone(slot.insert(file)))
    }

    /// Counts down; the last one finishes the file.
    pub(super) fn piece_done(&self, applier: &MetadataApplier, troubles: &Troubles, meter: &Meter) {
        if self.left.fetch_sub(1, Ordering::AcqRel) > 1 {
            return;
        }
        if let Err(error) = self.finish(applier) {
            self.fail();
            troubles.system(&self.path, &error);
        }
        if self.failed.load(Ordering::Acquire) {
            return;
        }
        if self.entry.flags().unsettled {
            troubles.add(&self.path, Trouble::Unsettled, "it kept changing while it was backed up: look whether it is sound");
        }
        meter.file_done();
    }

    fn finish(&self, applier: &MetadataApplier) -> io::Result<()> {
        if self.failed.load(Ordering::Acquire) {
            return Ok(());
        }
        let file = self.open()?;
        // A hole at the end, and a file that is nothing but a hole, have no piece of their own.
        if file.metadata()?.len() != self.entry.len() {
            file.set_len(self.entry.len())?;
        }
        applier.apply(&Restored::File(&file), &self.path, &self.entry);
        drop(file);
        drop(self.file.lock().unwrap_or_else(PoisonError::into_inner).take());
        self.destination.take(&self.folders, &self.temporary, &self.kept_both)?;
        self.in_place.store(true, Ordering::Release);
        Ok(())
    }
}

/// Nothing half-written stays behind, however the restore ends.
impl Drop for FileJob {
    fn drop(&mut self) {
        if !*self.in_place.get_mut() {
            // It may never have been made.
            let _ = self.folders.way(&self.temporary).and_then(|way| fs::remove_file(way.path()));
        }
    }
}

/// Writes pieces. Those of a large file that follow each other are gathered.
pub(super) struct Writer<'w> {
    pub(super) meter: &'w Meter,
    troubles: &'w Troubles,
    applier: &'w MetadataApplier,
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

impl Stretch {
    fn goes_on_with(&self, piece: &Piece) -> bool {
        Arc::ptr_eq(&self.job, &piece.job) && self.end == piece.offset
    }

    fn write(&mut self, content: &[u8]) -> io::Result<()> {
        self.end += content.len() as u64;
        self.writing.write_all(content)
    }
}

impl<'w> Writer<'w> {
    pub(super) fn new(meter: &'w Meter, troubles: &'w Troubles, applier: &'w MetadataApplier, past_cache: bool) -> Self {
        Self { meter, troubles, applier, past_cache, stretch: None }
    }

    /// Puts a piece where it belongs; there is no content when it is damaged or missing.
    pub(super) fn put(&mut self, piece: &Piece, content: Option<&[u8]>) {
        let job = &piece.job;
        if self.stretch.as_ref().is_some_and(|stretch| !stretch.goes_on_with(piece)) {
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
            None => job.piece_done(self.applier, self.troubles, self.meter),
        }
    }

    fn write(&mut self, piece: &Piece, content: &[u8]) -> io::Result<()> {
        if let Some(stretch) = &mut self.stretch {
            return stretch.write(content);
        }
        let file = piece.job.open()?;
        match self.begin_stretch(piece, &file) {
            Some(stretch) => self.stretch.insert(stretch).write(content),
            None => file.write_at_offset(content, piece.offset),
        }
    }

    /// Begins a stretch where it gains anything.
    fn begin_stretch(&self, piece: &Piece, file: &File) -> Option<Stretch> {
        if !self.past_cache || piece.job.entry.len() < LARGE {
            return None;
        }
        // How it is open changes while it is written, so it is opened once more: not by its name, which somebody else may have
        // given to something else meanwhile.
        let file = file.open_again_for_writing().ok()?;
        let writing = PastCache::at(file, piece.offset);
        Some(Stretch { job: Arc::clone(&piece.job), writing, end: piece.offset, pieces: 0 })
    }

    /// Writes what is gathered. Nothing is finished that is not written.
    pub(super) fn end_stretch(&mut self) {
        let Some(Stretch { job, mut writing, pieces, .. }) = self.stretch.take() else { return };
        if let Err(error) = writing.flush() {
            job.fail_for(|path| self.troubles.system(path, &error));
        }
        drop(writing);
        (0..pieces).for_each(|_| job.piece_done(self.applier, self.troubles, self.meter));
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_image::ChunkName;
    use jetfrost_image::format::{Content, EntryKind};
    use jetfrost_platform::Accounts;

    use super::super::NotRestored;
    use super::*;

    const PIECE: usize = 300_000;
    const PIECES: usize = 12;

    /// A file, as two threads of a restore write it: each its half, taking turns.
    struct Case {
        directory: tempfile::TempDir,
        content: Vec<u8>,
        job: Arc<FileJob>,
        troubles: Troubles,
    }

    impl Case {
        fn new() -> Self {
            let directory = tempfile::tempdir_in(".").expect("a directory");
            let content: Vec<u8> = (0..PIECE * PIECES).map(|i| (i / 7 % 251) as u8).collect();
            let mut entry = Entry::new(b"survey".to_vec(), EntryKind::File);
            entry.content = Some(Content { len: content.len() as u64, ..Content::empty() });
            (entry.uid, entry.gid) = System::own_ids();
            entry.mode = 0o640;
            let root = directory.path().canonicalize().expect("there");
            let destination = Destination::Over(root.join("survey"));
            let job = FileJob::new(destination, root.join("partial"), entry, Arc::default(), KeptBoth::default());
            (0..PIECES).for_each(|_| job.expect_piece());
            Self { directory, content, job: Arc::new(job), troubles: Troubles::default() }
        }

        fn put(&self, past_cache: bool, content_of: impl Fn(usize) -> Option<Vec<u8>>) {
            let (meter, applier) =
                (Meter::default(), MetadataApplier::new(self.troubles.clone(), false, crate::restore::Owners::default()));
            let mut halves = [(); 2].map(|()| Writer::new(&meter, &self.troubles, &applier, past_cache));
            for n in 0..PIECES {
                // The halves meet within a page.
                let (half, n) = (n % 2, n / 2 + n % 2 * PIECES / 2);
                let piece = Piece { job: Arc::clone(&self.job), offset: (n * PIECE) as u64, name: ChunkName([0; 32]) };
                halves[half].put(&piece, content_of(n).as_deref());
            }
            self.job.piece_done(&applier, &self.troubles, &meter);
            assert!(!past_cache || !self.job.path.exists(), "nothing is in its place that is not written");
            halves.iter_mut().for_each(Writer::end_stretch);
        }

        fn piece(&self, n: usize) -> Vec<u8> {
            self.content[n * PIECE..][..PIECE].to_vec()
        }
    }

    #[test]
    fn a_large_file_is_whole_when_it_gets_its_name_whichever_way_it_is_written() {
        for past_cache in [false, true] {
            let case = Case::new();
            case.put(past_cache, |n| Some(case.piece(n)));
            assert!(case.troubles.take().is_empty());
            assert!(fs::read(&case.job.path).expect("it is there") == case.content);
        }
    }

    #[test]
    fn a_large_file_of_which_a_piece_is_damaged_is_told_once_and_leaves_nothing() {
        for past_cache in [false, true] {
            let case = Case::new();
            case.put(past_cache, |n| (n != 3 && n != 8).then(|| case.piece(n)));
            let troubles = case.troubles.take();
            assert!(matches!(troubles[..], [NotRestored { trouble: Trouble::Damaged, .. }]), "{troubles:?}");
            drop(case.job);
            assert_eq!(fs::read_dir(case.directory.path()).expect("listed").count(), 0);
        }
    }
}
