//! Writing content and listings as chunks.

use std::io::{self, Read};

use super::{ChunkBuffer, Chunker};
use crate::crypto::StoreKeys;
use crate::format::{Content, Entry, EntryPage, MAX_ENTRY, Part};
use crate::id::ChunkName;

/// Takes chunks into the store.
pub trait ChunkSink {
    /// Why a chunk could not be taken.
    type Error: From<io::Error>;

    /// Takes a chunk. It may be one that is there already.
    ///
    /// # Errors
    /// As the sink has them.
    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<(), Self::Error>;

    /// As [`ChunkSink::put`], of the first `len` bytes of a buffer. A sink that keeps them may take the buffer for another one.
    ///
    /// # Errors
    /// As the sink has them.
    fn put_buffer(&mut self, name: ChunkName, buffer: &mut ChunkBuffer, len: usize) -> Result<(), Self::Error> {
        self.put(name, &buffer[..len])
    }
}

/// Reads `from` to its end into chunks and returns the parts.
///
/// # Errors
/// Of the reader or the sink.
pub fn store_content<S: ChunkSink>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    from: impl Read,
) -> Result<Vec<Part>, S::Error> {
    let mut parts = Vec::new();
    chunker.cut(from, |buffer, len| {
        let name = keys.name(&buffer[..len]);
        parts.push(Part { len: len as u64, name: Some(name) });
        sink.put_buffer(name, buffer, len)
    })?;
    Ok(parts)
}

/// A folder's listing in the making. Entries must be pushed ascending by name.
#[derive(Debug, Default)]
pub struct ListingWriter {
    page: EntryPage,
    parts: Vec<Part>,
}

impl ListingWriter {
    /// Adds an entry.
    ///
    /// # Errors
    /// Of the sink.
    pub fn push<S: ChunkSink>(&mut self, keys: &StoreKeys, sink: &mut S, entry: &Entry) -> Result<(), S::Error> {
        self.push_encoded(keys, sink, &entry.name, &entry.to_bytes())
    }

    /// As [`ListingWriter::push`], for an entry of this name that is encoded already.
    ///
    /// # Errors
    /// Of the sink; of an entry that is longer than [`MAX_ENTRY`], of which a page could not be read back.
    pub fn push_encoded<S: ChunkSink>(
        &mut self,
        keys: &StoreKeys,
        sink: &mut S,
        name: &[u8],
        entry: &[u8],
    ) -> Result<(), S::Error> {
        if entry.len() > MAX_ENTRY {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "an entry is longer than entries may be").into());
        }
        match self.page.push_encoded(name, entry) {
            Some(page) => self.end_page(keys, sink, &page),
            None => Ok(()),
        }
    }

    /// Ends the listing; every page and list that it refers to has gone to the sink.
    ///
    /// # Errors
    /// Of the sink.
    pub fn finish<S: ChunkSink>(mut self, keys: &StoreKeys, sink: &mut S) -> Result<Content, S::Error> {
        if let Some(page) = std::mem::take(&mut self.page).finish() {
            self.end_page(keys, sink, &page)?;
        }
        Content::from_parts(self.parts, |page| {
            let name = keys.name(&page);
            sink.put(name, &page).map(|()| name)
        })
    }

    fn end_page<S: ChunkSink>(&mut self, keys: &StoreKeys, sink: &mut S, page: &[u8]) -> Result<(), S::Error> {
        let name = keys.name(page);
        self.parts.push(Part { len: page.len() as u64, name: Some(name) });
        sink.put(name, page)
    }
}
