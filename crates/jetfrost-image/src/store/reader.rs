//! Reading chunks, many one after another.

use std::collections::{HashMap, VecDeque};
use std::io;
use std::ops::Deref;
use std::sync::{Arc, PoisonError};

use super::index::Place;
use super::{Result, Store, StoreError, layout, medium};
use crate::format::{MAX_SEALED, RECORD_HEAD, RecordHead};
use crate::id::{ChunkName, SegmentHash};
use crate::medium::StoredFile;

/// Segments that are kept open. What lies near each other in a point mostly lies in the same few.
const OPEN: usize = 4;

/// Reads chunks of a store, which it borrows or shares.
#[derive(Debug)]
pub struct ChunkReader<S> {
    store: S,
    /// Segments that were read last, the latest in front.
    open: VecDeque<(SegmentHash, Arc<dyn StoredFile>)>,
    /// Where chunks lie that were looked up ahead.
    places: HashMap<ChunkName, Place>,
    /// Holds the record that was read last, and may be longer.
    record: Vec<u8>,
}

impl Store {
    /// Reads chunks one after another.
    #[must_use]
    pub fn reader(&self) -> ChunkReader<&Self> {
        ChunkReader::of(self)
    }

    /// The sealed bytes of a chunk.
    ///
    /// # Errors
    /// As [`ChunkReader::chunk`].
    pub fn chunk(&self, name: &ChunkName) -> Result<Vec<u8>> {
        self.reader().chunk(name).map(<[u8]>::to_vec)
    }
}

impl<S: Deref<Target = Store>> ChunkReader<S> {
    /// Reads chunks of `store` one after another.
    #[must_use]
    pub fn of(store: S) -> Self {
        Self { store, open: VecDeque::with_capacity(OPEN), places: HashMap::new(), record: Vec::new() }
    }

    /// Looks up where chunks lie that are read next: all of them at once, so that each part of the index is read once. What is
    /// not found is looked for again when it is read.
    ///
    /// # Errors
    /// [`StoreError::Medium`]; [`StoreError::Format`] when the index is damaged.
    pub fn look_up(&mut self, names: &[ChunkName]) -> Result<()> {
        let mut ascending = names.to_vec();
        ascending.sort_unstable();
        let index = self.store.index.read().unwrap_or_else(PoisonError::into_inner);
        let mut look_ups = index.look_ups();
        for name in ascending {
            if let Some(place) = look_ups.find(&name)? {
                self.places.insert(name, place);
            }
        }
        Ok(())
    }

    /// The sealed bytes of a chunk.
    ///
    /// # Errors
    /// [`StoreError::NoChunk`]; [`StoreError::DamagedChunk`] when the bytes are not those that were stored.
    pub fn chunk(&mut self, name: &ChunkName) -> Result<&[u8]> {
        let mut place = match self.places.remove(name) {
            Some(place) => place,
            None => self.find(name)?,
        };
        while !self.is_sound_at(name, &place)? {
            // It may have moved into another segment meanwhile.
            match self.find(name)? {
                moved if moved != place => place = moved,
                _ => return Err(StoreError::DamagedChunk { name: *name, segment: place.segment }),
            }
        }
        Ok(&self.record[RECORD_HEAD..RECORD_HEAD + place.len as usize])
    }

    fn find(&self, name: &ChunkName) -> Result<Place> {
        let index = self.store.index.read().unwrap_or_else(PoisonError::into_inner);
        index.find(name)?.ok_or(StoreError::NoChunk(*name))
    }

    /// Reads the record at a place and says whether it is there and the chunk's.
    pub(super) fn is_sound_at(&mut self, name: &ChunkName, place: &Place) -> Result<bool> {
        let Some(file) = self.segment(&place.segment)? else { return Ok(false) };
        match read_record(&*file, name, place.offset, place.len, &mut self.record) {
            Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => Ok(false),
            other => other.map_err(medium("reading a segment")),
        }
    }

    /// An open segment; `None` for one that is not there.
    fn segment(&mut self, hash: &SegmentHash) -> Result<Option<Arc<dyn StoredFile>>> {
        if let Some(at) = self.open.iter().position(|(open, _)| open == hash) {
            self.open.swap(0, at);
        } else {
            match self.store.medium.open(&layout::segment(hash)) {
                Ok(file) => {
                    self.open.truncate(OPEN - 1);
                    self.open.push_front((*hash, file));
                }
                Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
                Err(e) => return Err(medium("opening a segment")(e)),
            }
        }
        Ok(self.open.front().map(|(_, file)| Arc::clone(file)))
    }
}

/// Reads a record to the beginning of `record`, head and all, and says whether it is what was written.
fn read_record(file: &dyn StoredFile, name: &ChunkName, offset: u32, len: u32, record: &mut Vec<u8>) -> io::Result<bool> {
    // A damaged index may say any length; memory is taken only for what can be a record.
    if len as usize > MAX_SEALED {
        return Ok(false);
    }
    let len = RECORD_HEAD + len as usize;
    // What is there already is overwritten; filling it with zeros first would take as long as a copy.
    if record.len() < len {
        record.resize(len, 0);
    }
    let record = &mut record[..len];
    file.read_exact_at(record, offset.into())?;
    let (head, sealed) = record.split_at(RECORD_HEAD);
    Ok(RecordHead::from_bytes(head).is_ok_and(|head| head.name == *name && head.matches(sealed)))
}

/// The sealed bytes of a record, if they are what was written.
pub(super) fn sound_record(file: &dyn StoredFile, name: &ChunkName, offset: u32, len: u32) -> io::Result<Option<Vec<u8>>> {
    let mut record = Vec::new();
    let is_sound = read_record(file, name, offset, len, &mut record)?;
    Ok(is_sound.then(|| record.split_off(RECORD_HEAD)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug)]
    struct Unread;

    impl StoredFile for Unread {
        fn len(&self) -> u64 {
            1 << 20
        }

        fn read_exact_at(&self, _: &mut [u8], _: u64) -> io::Result<()> {
            Err(io::Error::other("nothing is read"))
        }
    }

    #[test]
    fn a_damaged_length_takes_no_memory() {
        let mut record = Vec::new();
        assert!(!read_record(&Unread, &ChunkName([1; 32]), 32, u32::MAX, &mut record).expect("it is told without reading"));
        assert_eq!(record.capacity(), 0);
    }
}
