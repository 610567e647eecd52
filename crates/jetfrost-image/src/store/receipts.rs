//! Receipts: when the service committed each point, and which files belong to it.
//!
//! A receipt is written right after its point, before anything is acknowledged, and is removed right before it. So a
//! receipt without its point says that the point is lost, and a point without a receipt is one of an earlier version, or
//! one whose commit or removal was cut off: it gets a receipt when the store is opened, and counts as young.

use std::collections::BTreeSet;
use std::io;

use super::used::occupied;
use super::{MAX_SMALL, Result, Store, StoreError, layout, medium, numbers};
use crate::format::{PointFile, Receipt};
use crate::medium::{Medium, read_whole};

impl Store {
    /// A point's receipt; `None` when there is none yet.
    ///
    /// # Errors
    /// [`StoreError::Format`] when it is damaged, or another point's; [`StoreError::Medium`].
    pub fn receipt(&self, sequence: u64) -> Result<Option<Receipt>> {
        match read_receipt(&*self.medium, sequence)? {
            Some(receipt) if receipt.store != self.id || receipt.sequence != sequence => Err(StoreError::OtherReceipt(sequence)),
            found => Ok(found),
        }
    }

    /// A point's receipt, if there is one that is sound: a damaged one says nothing, and stands in nobody's way.
    pub(super) fn sound_receipt(&self, sequence: u64) -> Result<Option<Receipt>> {
        match self.receipt(sequence) {
            Err(StoreError::Format(_) | StoreError::OtherReceipt(_)) => Ok(None),
            other => other,
        }
    }

    /// The points that have no receipt.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn without_receipt(&self) -> Result<Vec<u64>> {
        let with_receipt = numbers(&*self.medium, layout::RECEIPTS, layout::RECEIPT_SUFFIX)?;
        Ok(self.lock_points().difference(&with_receipt).copied().collect())
    }

    /// The points whose receipt is damaged: it is to be begun anew.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn with_damaged_receipt(&self) -> Result<Vec<u64>> {
        let mut damaged = Vec::new();
        for sequence in self.points() {
            match self.receipt(sequence) {
                Ok(_) => {}
                Err(StoreError::Format(_) | StoreError::OtherReceipt(_)) => damaged.push(sequence),
                Err(other) => return Err(other),
            }
        }
        Ok(damaged)
    }

    /// Puts on record when a point was committed of which that is not known.
    ///
    /// # Errors
    /// [`StoreError::NoPoint`]; [`StoreError::Needs`] and [`StoreError::Format`] when the point or its needs are damaged;
    /// [`StoreError::Medium`].
    pub fn give_receipt(&self, sequence: u64, committed: i64) -> Result<()> {
        let bytes = self.point_as_it_is(sequence)?;
        PointFile::from_bytes(&bytes)?;
        let needs = self.scan_needs(sequence, |_, _| Ok(()))?.check;
        self.write_receipt(&Receipt::of(self.id, sequence, &bytes, committed, needs))
    }

    /// Makes a receipt name the files that salvage put in the place of lost ones. When the point was committed stays.
    pub(super) fn renew_receipt(&self, sequence: u64) -> Result<()> {
        self.sound_receipt(sequence)?.map_or(Ok(()), |receipt| self.give_receipt(sequence, receipt.committed))
    }

    /// Points that were committed and are not there, though nothing removed them.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn lost_points(&self) -> Result<BTreeSet<u64>> {
        let with_receipt = numbers(&*self.medium, layout::RECEIPTS, layout::RECEIPT_SUFFIX)?;
        Ok(with_receipt.difference(&self.lock_points()).copied().collect())
    }

    /// Gives lost points up: nothing says any more that they should be there.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn give_up_lost(&self, lost: &BTreeSet<u64>) -> Result<()> {
        let points = self.lock_points();
        lost.difference(&points).try_for_each(|sequence| self.remove_receipt(*sequence))?;
        self.medium.sync_directory(layout::RECEIPTS).map_err(medium("removing the receipt of a recovery point"))
    }

    pub(super) fn write_receipt(&self, receipt: &Receipt) -> Result<()> {
        self.put_small(layout::RECEIPTS, &layout::receipt(receipt.sequence), &receipt.to_bytes())
            .map_err(medium("writing the receipt of a recovery point"))
    }

    /// Removes a receipt; the point that it belongs to is about to go.
    pub(super) fn remove_receipt(&self, sequence: u64) -> Result<()> {
        let failed = medium("removing the receipt of a recovery point");
        let path = format!("{}/{}", layout::RECEIPTS, layout::receipt(sequence));
        let len = match self.medium.open(&path) {
            Ok(file) => file.len(),
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(e) => return Err(failed(e)),
        };
        self.medium.remove(&path).map_err(&failed)?;
        self.used.grow(-occupied(&*self.medium, len).cast_signed());
        Ok(())
    }
}

fn read_receipt(on: &dyn Medium, sequence: u64) -> Result<Option<Receipt>> {
    let path = format!("{}/{}", layout::RECEIPTS, layout::receipt(sequence));
    match read_whole(on, &path, MAX_SMALL) {
        Ok(bytes) => Ok(Some(Receipt::from_bytes(&bytes)?)),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(medium("reading the receipt of a recovery point")(e)),
    }
}
