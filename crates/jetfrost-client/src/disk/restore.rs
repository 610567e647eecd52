//! Bringing a disk back: onto a block device or into a new raw file.
//!
//! What is already right at the target is not fetched, so a restore that was broken off goes on where it was. In the end
//! everything is read back and compared with the names of its chunks.

use std::fs::{File, OpenOptions};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use std::{fs, io};

use crate::content_reader::ContentReader;
use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::Opener;
use jetfrost_image::format::Part;
use jetfrost_image::tree::{Readable, parts_or_lost};
use jetfrost_platform::{FileContent, Opening};
use jetfrost_wire::RestoreId;
use jetfrost_wire::restore::{BeginRestore, Purpose, RestoreTarget, Scope};
use jetfrost_wire::run::Phase;

use super::DiskBytes;
use super::present::{TargetDisk, is_there, open_device};
use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::scan::is_zero;

type Result<T> = std::result::Result<T, ClientError>;

/// Where a disk goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A new raw file, with holes where the disk has zeros. While it is unfinished its name ends with `.unfinished`.
    File(PathBuf),
    /// A block device, whose content is overwritten.
    Device(PathBuf),
}

impl Target {
    /// What the service learns of it.
    fn on_record(&self) -> RestoreTarget {
        match self {
            Self::File(_) => RestoreTarget::Elsewhere,
            Self::Device(_) => RestoreTarget::Device,
        }
    }
}

/// What bringing a disk back came to.
#[derive(Debug)]
pub struct DiskReport {
    /// Bytes of the disk.
    pub bytes: u64,
    /// Bytes that were fetched and written.
    pub written: u64,
    /// Bytes that came over the network, compressed.
    pub fetched: u64,
    /// Stretches whose chunks are damaged or missing in the image store: zeros are in their place.
    pub damaged: Vec<Range<u64>>,
    /// Stretches that do not read back as they were written: the target is not sound.
    pub unsound: Vec<Range<u64>>,
    /// How long it took.
    pub took: Duration,
    /// Which restore it is on record.
    pub on_record: Option<RestoreId>,
    /// Why the service could not put this restore on record, if so.
    pub not_on_record: Option<ClientError>,
}

/// Bytes looked at together.
const BATCH: u64 = 8 << 20;
const PARTS: usize = 64;
const BATCHES: usize = 4;
const WORKERS: usize = 3;
/// Holes are given out in stretches of this size.
const HOLE: u64 = 256 << 20;
/// Holes are compared and written in pieces of this size.
const PIECE: u64 = 1 << 20;

/// Brings a disk of a point back, puts that on record, and reads all of it back in the end.
///
/// # Errors
/// [`ClientError::Target`] when the target will not do; [`ClientError`] when it could not be done at all. Stretches that
/// could not be brought back are in the report.
pub fn restore_disk(
    browser: &Browser,
    point: &OpenPoint,
    image: &ContentReader,
    target: &Target,
    meter: &Arc<Meter>,
) -> Result<DiskReport> {
    let started = Instant::now();
    let onto = Opened::open(target, image.len())?;
    let begin = BeginRestore {
        point: point.head.sequence,
        scope: Scope::Selection,
        purpose: Purpose::Restore,
        target: Some(target.on_record()),
        order: None,
    };
    let record = browser.source.begin_restore(&begin, meter)?;
    let on_record = record.id();
    let result = onto.fill(browser, image, meter).and_then(|report| onto.finish(target).map(|()| report));
    let (report, not_on_record) = record.end(result, meter, |report| (report.damaged.len() + report.unsound.len()) as u64)?;
    Ok(DiskReport { took: started.elapsed(), on_record, not_on_record, ..report })
}

/// Reads all of a disk that was brought back before, and compares it with the point. Nothing is written.
///
/// # Errors
/// [`ClientError::Target`] when that is shorter; what the service said; [`ClientError::File`].
pub fn compare_disk(browser: &Browser, image: &ContentReader, target: &Target, meter: &Meter) -> Result<DiskReport> {
    let started = Instant::now();
    let disk = TargetDisk::open(target)?;
    if disk.bytes() < image.len() {
        let (Target::File(path) | Target::Device(path)) = target;
        return Err(ClientError::Target { path: path.into(), why: "it is shorter than the disk that was backed up" });
    }
    let report = Opened { file: disk.file, unfinished: None, is_new: false }.compare(browser, image, meter, Tally::default())?;
    Ok(DiskReport { took: started.elapsed(), ..report })
}

/// The name that an image file has while it is unfinished.
pub(super) fn unfinished_name(path: &Path) -> Result<PathBuf> {
    let mut name = path.file_name().ok_or(ClientError::Target { path: path.into(), why: "give a file name" })?.to_owned();
    name.push(".unfinished");
    Ok(path.with_file_name(name))
}

/// The target, open.
struct Opened {
    file: File,
    /// The name that it has while it is unfinished; none for a device.
    unfinished: Option<PathBuf>,
    /// Whether there was nothing before, so that what is a hole in the disk is one already.
    is_new: bool,
}

impl Opened {
    fn open(target: &Target, len: u64) -> Result<Self> {
        match target {
            Target::File(path) => Self::file(path, len),
            Target::Device(path) => Self::device(path, len),
        }
    }

    fn file(path: &Path, len: u64) -> Result<Self> {
        if path.symlink_metadata().is_ok() {
            return Err(is_there(path));
        }
        let unfinished = unfinished_name(path)?;
        let open = || {
            let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).private().open(&unfinished)?;
            let is_new = file.metadata()?.len() == 0;
            file.set_len(len)?;
            Ok((file, is_new))
        };
        let (file, is_new) = open().map_err(ClientError::file("making", &unfinished))?;
        Ok(Self { file, unfinished: Some(unfinished), is_new })
    }

    fn device(path: &Path, len: u64) -> Result<Self> {
        let file = open_device(path, len, OpenOptions::new().read(true).write(true))?;
        Ok(Self { file, unfinished: None, is_new: false })
    }

    /// Writes what is not right yet, then reads all of it back.
    fn fill(&self, browser: &Browser, image: &ContentReader, meter: &Meter) -> Result<DiskReport> {
        let tally = Tally::default();
        meter.enter(Phase::Sending);
        meter.expect(1, image.len());
        self.pass(browser, image, meter, &|worker, batch| worker.write(batch), &tally)?;
        self.file.sync_data().map_err(ClientError::file("writing", "the disk"))?;
        meter.begin_bytes_again();
        self.compare(browser, image, meter, tally)
    }

    /// Reads all of it back.
    fn compare(&self, browser: &Browser, image: &ContentReader, meter: &Meter, tally: Tally) -> Result<DiskReport> {
        // What is compared is to come from the target and not from memory.
        self.file.forget_cached();
        meter.enter(Phase::Comparing);
        meter.expect(1, image.len());
        self.pass(browser, image, meter, &|worker, batch| worker.compare(batch), &tally)?;
        meter.file_done();
        Ok(DiskReport {
            bytes: image.len(),
            written: tally.written.into_inner(),
            fetched: meter.progress().sent,
            damaged: merged(tally.damaged),
            unsound: merged(tally.unsound),
            took: Duration::ZERO,
            on_record: None,
            not_on_record: None,
        })
    }

    /// Goes through the whole disk with several workers.
    fn pass(&self, browser: &Browser, image: &ContentReader, meter: &Meter, work: Work<'_>, tally: &Tally) -> Result<()> {
        let (batches, waiting) = bounded::<Batch>(BATCHES);
        std::thread::scope(|scope| {
            let workers: Vec<_> = (0..WORKERS)
                .map(|_| {
                    let worker = Worker { browser, meter, onto: self, tally, opener: Opener::new(browser.keys.clone()) };
                    let waiting = waiting.clone();
                    scope.spawn(move || worker.run(&waiting, work))
                })
                .collect();
            drop(waiting);
            let planned = plan(image, tally, &batches);
            drop(batches);
            // A worker's failure is the cause of the planner's.
            for worker in workers {
                worker.join().unwrap_or_else(|_| Err(ClientError::Unexpected("a thread of the restore panicked".into())))?;
            }
            planned
        })
    }

    /// Makes it durable under its own name.
    fn finish(&self, target: &Target) -> Result<()> {
        let (Some(unfinished), Target::File(path)) = (&self.unfinished, target) else { return Ok(()) };
        let finish = || {
            self.file.sync_all()?;
            fs::rename(unfinished, path)?;
            let directory = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
            File::open(directory)?.sync_all()
        };
        finish().map_err(ClientError::file("writing", path))
    }

    /// Whether there are only zeros.
    fn is_zero(&self, stretch: &Range<u64>) -> io::Result<bool> {
        let mut buffer = Vec::new();
        let mut at = stretch.start;
        while at < stretch.end {
            // What a file system knows to be a hole is not read.
            at = match self.file.next_data(at) {
                Ok(Some(data)) => data,
                Ok(None) => return Ok(true),
                Err(_) => at,
            };
            if at >= stretch.end {
                return Ok(true);
            }
            let end = stretch.end.min(at + PIECE);
            buffer.resize(usize::try_from(end - at).expect("a piece"), 0);
            self.file.read_all_at(&mut buffer, at)?;
            if !is_zero(&buffer) {
                return Ok(false);
            }
            at = end;
        }
        Ok(true)
    }

    /// Makes a stretch zeros.
    fn clear(&self, stretch: &Range<u64>) -> io::Result<()> {
        let len = stretch.end - stretch.start;
        if self.unfinished.is_some() && self.file.punch_hole(stretch.clone()).is_ok() {
            return Ok(());
        }
        let zeros = vec![0; usize::try_from(len.min(PIECE)).expect("a piece")];
        let mut at = stretch.start;
        while at < stretch.end {
            let n = (stretch.end - at).min(PIECE);
            self.file.write_at_offset(&zeros[..usize::try_from(n).expect("a piece")], at)?;
            at += n;
        }
        Ok(())
    }
}

/// Parts with their offsets.
type Batch = Vec<(u64, Part)>;
type Work<'w> = &'w (dyn Fn(&mut Worker<'_>, &Batch) -> Result<()> + Sync);

/// Gives the parts of the disk out in batches. Where it is not known what they are, there will be zeros.
fn plan(image: &ContentReader, tally: &Tally, batches: &Sender<Batch>) -> Result<()> {
    let (mut batch, mut bytes) = (Batch::new(), 0);
    // The channel closes when all workers failed; they tell why.
    let send = |batch: &mut Batch| batches.send(std::mem::take(batch)).map_err(|_| ClientError::Stopped);
    parts_or_lost(image, image.content(), &ClientError::is_loss, &mut |offset, part, readable| {
        let name = part.name.filter(|_| readable == Readable::Known);
        if readable == Readable::Lost {
            note(&tally.damaged, offset..offset + part.len);
        }
        // A hole may be a terabyte: several workers share it.
        let step = if name.is_some() { part.len.max(1) } else { HOLE };
        for from in (offset..offset + part.len).step_by(usize::try_from(step).unwrap_or(usize::MAX)) {
            let len = step.min(offset + part.len - from);
            batch.push((from, Part { len, name }));
            bytes += if name.is_some() { len } else { 0 };
            if bytes >= BATCH || batch.len() >= PARTS {
                bytes = 0;
                send(&mut batch)?;
            }
        }
        Ok(())
    })?;
    send(&mut batch)
}

/// What the workers found.
#[derive(Default)]
struct Tally {
    written: AtomicU64,
    damaged: Mutex<Vec<Range<u64>>>,
    unsound: Mutex<Vec<Range<u64>>>,
}

fn note(list: &Mutex<Vec<Range<u64>>>, stretch: Range<u64>) {
    list.lock().unwrap_or_else(PoisonError::into_inner).push(stretch);
}

/// Stretches in order; what touches is one.
fn merged(list: Mutex<Vec<Range<u64>>>) -> Vec<Range<u64>> {
    let mut list = list.into_inner().unwrap_or_else(PoisonError::into_inner);
    list.sort_by_key(|stretch| stretch.start);
    let mut merged: Vec<Range<u64>> = Vec::new();
    for stretch in list {
        match merged.last_mut() {
            Some(last) if last.end >= stretch.start => last.end = last.end.max(stretch.end),
            _ => merged.push(stretch),
        }
    }
    merged
}

struct Worker<'w> {
    browser: &'w Browser,
    meter: &'w Meter,
    onto: &'w Opened,
    tally: &'w Tally,
    opener: Opener,
}

impl Worker<'_> {
    fn run(mut self, batches: &Receiver<Batch>, work: Work<'_>) -> Result<()> {
        while let Ok(batch) = batches.recv() {
            if self.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            work(&mut self, &batch)?;
        }
        Ok(())
    }

    /// Writes what is not right yet.
    fn write(&mut self, batch: &Batch) -> Result<()> {
        let failed = ClientError::file("writing", "the disk");
        let mut wanted: Vec<(u64, ChunkName, u64)> = Vec::new();
        let mut look = || {
            for (offset, part) in batch {
                match part.name {
                    _ if !self.onto.is_new && self.is_right(*offset, part)? => self.meter.bytes_done(part.len),
                    Some(name) => wanted.push((*offset, name, part.len)),
                    None => {
                        if !self.onto.is_new {
                            self.onto.clear(&(*offset..*offset + part.len))?;
                        }
                        self.meter.bytes_done(part.len);
                    }
                }
            }
            Ok::<_, io::Error>(())
        };
        look().map_err(failed)?;
        if wanted.is_empty() {
            return Ok(());
        }
        let names: Vec<ChunkName> = wanted.iter().map(|(_, name, _)| *name).collect();
        let Self { browser, meter, onto, tally, opener } = self;
        browser.source.fetch(&names, |i, sealed| {
            let (offset, name, len) = &wanted[i];
            meter.sent(sealed.as_ref().map_or(0, |sealed| sealed.len()) as u64);
            let content = sealed.and_then(|sealed| opener.open(name, sealed).ok());
            let written = match content.filter(|content| content.len() as u64 == *len) {
                Some(content) => {
                    tally.written.fetch_add(*len, Ordering::Relaxed);
                    onto.file.write_at_offset(content, *offset)
                }
                None => {
                    note(&tally.damaged, *offset..offset + len);
                    onto.clear(&(*offset..offset + len))
                }
            };
            meter.bytes_done(*len);
            written.map_err(ClientError::file("writing", "the disk"))
        })
    }

    /// Reads back and notes what is not as it should be.
    fn compare(&mut self, batch: &Batch) -> Result<()> {
        for (offset, part) in batch {
            let stretch = *offset..offset + part.len;
            let is_damaged = || self.tally.damaged.lock().unwrap_or_else(PoisonError::into_inner).contains(&stretch);
            if !self.is_right(*offset, part).map_err(ClientError::file("reading back", "the disk"))? && !is_damaged() {
                note(&self.tally.unsound, stretch.clone());
            }
            self.meter.bytes_done(part.len);
        }
        Ok(())
    }

    /// Whether the target has this part already.
    fn is_right(&self, offset: u64, part: &Part) -> io::Result<bool> {
        let Some(name) = part.name else { return self.onto.is_zero(&(offset..offset + part.len)) };
        let mut content = vec![0; usize::try_from(part.len).expect("a chunk fits into memory")];
        self.onto.file.read_all_at(&mut content, offset)?;
        Ok(self.browser.keys.name(&content) == name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn opened(file: File) -> Opened {
        Opened { file, unfinished: None, is_new: false }
    }

    #[test]
    fn zeros_are_told_from_data_and_made() {
        let file = tempfile::tempfile().expect("a file");
        file.set_len(5 * PIECE).expect("longer");
        file.write_at_offset(&[7], 3 * PIECE + 5).expect("written");
        let onto = opened(file);
        assert!(onto.is_zero(&(0..3 * PIECE)).expect("read"));
        assert!(!onto.is_zero(&(0..5 * PIECE)).expect("read"));
        assert!(onto.is_zero(&(3 * PIECE + 6..5 * PIECE)).expect("read"));
        onto.clear(&(2 * PIECE + 1..4 * PIECE - 1)).expect("cleared");
        assert!(onto.is_zero(&(0..5 * PIECE)).expect("read"));
    }

    #[test]
    fn stretches_that_touch_are_one() {
        let list = Mutex::new(vec![5..7, 0..2, 2..5, 9..10, 9..10]);
        assert_eq!(merged(list), [0..7, 9..10]);
    }

    #[test]
    fn a_file_that_is_there_and_what_is_no_device_are_refused() {
        let directory = tempfile::tempdir().expect("a directory");
        let path = directory.path().join("ledger.raw");
        fs::write(&path, "somebody's").expect("written");
        assert!(Opened::open(&Target::File(path.clone()), 10).is_err());
        assert!(Opened::open(&Target::Device(path.clone()), 10).is_err());
        assert_eq!(fs::read(&path).expect("read"), b"somebody's");
    }
}
