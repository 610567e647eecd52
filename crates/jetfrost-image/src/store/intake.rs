//! Receiving segments and needs files as their bytes arrive.

use std::io::Write;

use super::{Result, Store, StoreError, medium, names};
use crate::format::{FormatError, NeedsScanner, SegmentScanner};
use crate::id::SegmentHash;
use crate::medium::Staged;

/// A segment that is arriving. Dropped before [`SegmentIntake::finish`], it leaves nothing.
#[derive(Debug)]
pub struct SegmentIntake<'s> {
    store: &'s Store,
    announced: SegmentHash,
    scanner: SegmentScanner,
    staged: Staged,
}

impl<'s> SegmentIntake<'s> {
    pub(super) fn begin(store: &'s Store, announced: SegmentHash) -> Result<Self> {
        let staged = Staged::begin(&store.medium).map_err(medium("beginning a segment"))?;
        Ok(Self { store, announced, scanner: SegmentScanner::new(store.id), staged })
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

    /// As [`SegmentIntake::finish`]. `counted_by` calls what it is given, which adds the segment to [`Store::used`]: at
    /// the same moment as room that was set aside for it is given back, so that it counts neither twice nor not at all.
    ///
    /// # Errors
    /// As [`SegmentIntake::finish`].
    pub fn finish_counted_by(self, counted_by: impl FnOnce(&dyn Fn())) -> Result<u64> {
        let (hash, entries) = self.scanner.finish()?;
        if hash != self.announced {
            return Err(StoreError::WrongHash);
        }
        let len = self.staged.len();
        let directory = names::segment_directory(&hash);
        self.store.medium.make_directory(&directory).map_err(medium("making a directory for segments"))?;
        self.staged.publish(&directory, &names::segment_file(&hash)).map_err(medium("finishing a segment"))?;
        let store = self.store;
        counted_by(&|| store.add_used(len));
        let mut index = self.store.index.write().unwrap_or_else(std::sync::PoisonError::into_inner);
        let grown = index.add(hash, &entries)?;
        self.store.used.fetch_add(grown.cast_unsigned(), std::sync::atomic::Ordering::Relaxed);
        Ok(len)
    }
}

/// A needs file that is arriving.
#[derive(Debug)]
pub struct NeedsIntake<'s> {
    store: &'s Store,
    sequence: u64,
    scanner: NeedsScanner,
    staged: Staged,
}

impl<'s> NeedsIntake<'s> {
    pub(super) fn begin(store: &'s Store, sequence: u64) -> Result<Self> {
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
    /// [`StoreError::Needs`] when it is another point's; [`StoreError::Format`]; [`StoreError::Medium`].
    pub fn finish(self) -> Result<()> {
        self.finish_counted_by(|count| count())
    }

    /// As [`NeedsIntake::finish`], counted as by [`SegmentIntake::finish_counted_by`].
    ///
    /// # Errors
    /// As [`NeedsIntake::finish`].
    pub fn finish_counted_by(self, counted_by: impl FnOnce(&dyn Fn())) -> Result<()> {
        let summary = self.scanner.finish()?;
        if summary.head.store != self.store.id || summary.head.sequence != self.sequence {
            return Err(StoreError::Needs("they are another point's"));
        }
        let (store, len) = (self.store, self.staged.len());
        // An attempt to commit that was refused may have left one of the same number.
        let before = store.medium.open(&format!("{}/{}", names::NEEDS, names::needs(self.sequence))).map_or(0, |file| file.len());
        self.staged.publish(names::NEEDS, &names::needs(self.sequence)).map_err(medium("finishing a needs file"))?;
        counted_by(&|| {
            store.add_used(len);
            store.take_used(before);
        });
        Ok(())
    }
}
