//! Receiving segments and needs files as their bytes arrive.

use std::io::Write;
use std::ops::Deref;

use super::{Result, Store, StoreError, layout, medium};
use crate::format::{FormatError, NeedsScanner, SegmentScanner};
use crate::id::SegmentHash;
use crate::medium::Staged;

/// A segment that is arriving at a store, which is borrowed or shared. Dropped before [`SegmentUpload::finish`], it leaves nothing.
#[derive(Debug)]
pub struct SegmentUpload<S> {
    store: S,
    announced: SegmentHash,
    scanner: SegmentScanner,
    staged: Staged,
}

impl<S: Deref<Target = Store>> SegmentUpload<S> {
    pub(super) fn begin(store: S, announced: SegmentHash) -> Result<Self> {
        let staged = Staged::begin(&store.medium).map_err(medium("beginning a segment"))?;
        let scanner = SegmentScanner::new(store.id);
        Ok(Self { store, announced, scanner, staged })
    }

    /// Takes the next bytes.
    ///
    /// # Errors
    /// [`StoreError::Format`] as soon as they cannot belong to a sound segment; [`StoreError::Medium`].
    pub fn push(&mut self, bytes: &[u8]) -> Result<()> {
        self.scanner.push(bytes)?;
        self.staged.write_all(bytes).map_err(medium("writing a segment"))
    }

    /// Makes the segment durable and its chunks known. Returns its length in bytes.
    ///
    /// # Errors
    /// [`StoreError::WrongHash`]; [`StoreError::Format`]; [`StoreError::Medium`].
    pub fn finish(self) -> Result<u64> {
        self.finish_counted_by(|count| count())
    }

    /// As [`SegmentUpload::finish`]. `counted_by` calls what it is given, which adds the segment to [`Store::used`]: at
    /// the same moment as room that was set aside for it is given back, so that it counts neither twice nor not at all.
    ///
    /// # Errors
    /// As [`SegmentUpload::finish`].
    pub fn finish_counted_by(self, counted_by: impl FnOnce(&dyn Fn())) -> Result<u64> {
        let (hash, entries) = self.scanner.finish()?;
        if hash != self.announced {
            return Err(StoreError::WrongHash);
        }
        let len = self.staged.len();
        let (store, mut staged) = (&*self.store, self.staged);
        // The slow part comes before the lock.
        staged.sync().map_err(medium("finishing a segment"))?;
        let _only = store.lock_name(&hash);
        if store.medium.open(&layout::segment(&hash)).is_ok() {
            // The same segment arrived twice at once: the other one is there, and counted.
            counted_by(&|| {});
            return Ok(len);
        }
        let directory = layout::segment_directory(&hash);
        store.medium.make_directory(&directory).map_err(medium("making a directory for segments"))?;
        staged.publish(&directory, &layout::segment_file(&hash)).map_err(medium("finishing a segment"))?;
        counted_by(&|| store.add_used(len));
        let mut index = store.index.write().unwrap_or_else(std::sync::PoisonError::into_inner);
        let grown = index.add(hash, &entries)?;
        store.used.grow(grown);
        Ok(len)
    }
}

/// A needs file that is arriving at a store, which is borrowed or shared.
#[derive(Debug)]
pub struct NeedsUpload<S> {
    store: S,
    sequence: u64,
    scanner: NeedsScanner,
    staged: Staged,
}

impl<S: Deref<Target = Store>> NeedsUpload<S> {
    pub(super) fn begin(store: S, sequence: u64) -> Result<Self> {
        let staged = Staged::begin(&store.medium).map_err(medium("beginning a needs file"))?;
        Ok(Self { store, sequence, scanner: NeedsScanner::default(), staged })
    }

    /// Takes the next bytes.
    ///
    /// # Errors
    /// [`StoreError::Format`] as soon as they cannot belong to a sound needs file; [`StoreError::Medium`].
    pub fn push(&mut self, bytes: &[u8]) -> Result<()> {
        self.scanner.push(bytes, |_, _| Ok::<_, FormatError>(()))?;
        self.staged.write_all(bytes).map_err(medium("writing a needs file"))
    }

    /// Makes the file durable.
    ///
    /// # Errors
    /// [`StoreError::Needs`] when it is another point's; [`StoreError::OutOfOrder`] when the point was committed meanwhile; [`StoreError::Format`]; [`StoreError::Medium`].
    pub fn finish(self) -> Result<()> {
        self.finish_counted_by(|count| count())
    }

    /// As [`NeedsUpload::finish`], counted as by [`SegmentUpload::finish_counted_by`].
    ///
    /// # Errors
    /// As [`NeedsUpload::finish`].
    pub fn finish_counted_by(self, counted_by: impl FnOnce(&dyn Fn())) -> Result<()> {
        let summary = self.scanner.finish()?;
        if summary.head.store != self.store.id || summary.head.sequence != self.sequence {
            return Err(StoreError::Needs("they are another point's"));
        }
        let len = self.staged.len();
        let (store, mut staged) = (&*self.store, self.staged);
        // The slow part comes before the lock.
        staged.sync().map_err(medium("finishing a needs file"))?;
        // Under the lock of the commit: what a point was committed with is never written over.
        let points = store.lock_points();
        store.check_next(&points, self.sequence)?;
        // An attempt to commit that was refused may have left one of the same number.
        let before =
            store.medium.open(&format!("{}/{}", layout::NEEDS, layout::needs(self.sequence))).map_or(0, |file| file.len());
        staged.publish(layout::NEEDS, &layout::needs(self.sequence)).map_err(medium("finishing a needs file"))?;
        counted_by(&|| {
            store.add_used(len);
            store.take_used(before);
        });
        Ok(())
    }
}
