//! Reading from anywhere in a disk image: only the chunks behind the range are fetched, and a few are kept.

use std::collections::HashMap;
use std::num::NonZeroUsize;
use std::ops::Range;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::Opener;
use jetfrost_image::format::{Content, Part};
use jetfrost_image::tree::{ChunkSource, parts_between};
use lru::LruCache;

use crate::browse::Browser;
use crate::error::ClientError;

type Result<T> = std::result::Result<T, ClientError>;

/// Chunks kept, of a mebibyte at most each: what several readers side by side need, and the pages that lead there.
const KEPT: NonZeroUsize = NonZeroUsize::new(48).expect("not zero");

type Chunk = Arc<Vec<u8>>;

/// A disk in a recovery point, open for reading. May be read by several threads.
pub struct DiskImage {
    browser: Browser,
    content: Content,
    kept: Mutex<LruCache<ChunkName, Chunk>>,
}

/// A stretch of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stretch {
    /// Bytes.
    pub len: u64,
    /// Whether there is nothing but zeros, which were never stored.
    pub is_hole: bool,
}

impl DiskImage {
    pub(super) fn new(browser: Browser, content: Content) -> Self {
        Self { browser, content, kept: Mutex::new(LruCache::new(KEPT)) }
    }

    /// Bytes of the disk.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.content.len
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.content.len == 0
    }

    pub(super) fn content(&self) -> &Content {
        &self.content
    }

    /// `len` bytes from `offset`, or as many as there are.
    ///
    /// # Errors
    /// As [`DiskImage::read_at`].
    pub fn read(&self, offset: u64, len: usize) -> Result<Vec<u8>> {
        let there = self.len().saturating_sub(offset).min(len as u64);
        let mut bytes = vec![0; usize::try_from(there).expect("not more than was asked for")];
        self.read_at(&mut bytes, offset)?;
        Ok(bytes)
    }

    /// Fills the buffer from `offset`, which with its length must lie within the disk.
    ///
    /// # Errors
    /// [`ClientError::Damaged`]; what the service said.
    pub fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let range = offset..offset + buffer.len() as u64;
        let parts = self.parts(range.clone())?;
        let chunks = self.chunks(parts.iter().filter_map(|(_, part)| part.name))?;
        for (at, part) in parts {
            let (from, to) = (range.start.max(at), range.end.min(at + part.len));
            let into = &mut buffer[index(from - range.start)..index(to - range.start)];
            match part.name {
                None => into.fill(0),
                Some(name) => {
                    let chunk = &chunks[&name];
                    if chunk.len() as u64 != part.len {
                        return Err(ClientError::Damaged);
                    }
                    into.copy_from_slice(&chunk[index(from - at)..index(to - at)]);
                }
            }
        }
        Ok(())
    }

    /// What is data and what is a hole, in order; neighbours differ.
    ///
    /// # Errors
    /// As [`DiskImage::read_at`].
    pub fn stretches(&self, range: Range<u64>) -> Result<Vec<Stretch>> {
        let mut stretches: Vec<Stretch> = Vec::new();
        for (at, part) in self.parts(range.clone())? {
            let len = range.end.min(at + part.len) - range.start.max(at);
            let is_hole = part.name.is_none();
            match stretches.last_mut() {
                Some(last) if last.is_hole == is_hole => last.len += len,
                _ => stretches.push(Stretch { len, is_hole }),
            }
        }
        Ok(stretches)
    }

    fn parts(&self, range: Range<u64>) -> Result<Vec<(u64, Part)>> {
        let mut parts = Vec::new();
        parts_between(self, &self.content, range, &mut |offset, part| {
            parts.push((offset, part));
            Ok(())
        })?;
        Ok(parts)
    }

    /// These chunks; those that are not kept come in one call.
    fn chunks(&self, names: impl Iterator<Item = ChunkName>) -> Result<HashMap<ChunkName, Chunk>> {
        let (mut chunks, mut wanted) = (HashMap::new(), Vec::new());
        for name in names {
            if chunks.contains_key(&name) || wanted.contains(&name) {
                continue;
            }
            match self.kept().get(&name) {
                Some(chunk) => drop(chunks.insert(name, Arc::clone(chunk))),
                None => wanted.push(name),
            }
        }
        if wanted.is_empty() {
            return Ok(chunks);
        }
        let mut opener = Opener::new(self.browser.keys.clone());
        self.browser.shelf.fetch(&wanted, |i, sealed| {
            let mut sealed = sealed.ok_or(ClientError::Damaged)?;
            let chunk = Arc::new(opener.open(&wanted[i], &mut sealed)?);
            self.kept().put(wanted[i], Arc::clone(&chunk));
            chunks.insert(wanted[i], chunk);
            Ok(())
        })?;
        Ok(chunks)
    }

    fn kept(&self) -> MutexGuard<'_, LruCache<ChunkName, Chunk>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl ChunkSource for DiskImage {
    type Error = ClientError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>> {
        let chunks = self.chunks(std::iter::once(*name))?;
        Ok(chunks.get(name).ok_or(ClientError::Damaged)?.to_vec())
    }
}

/// A distance within a buffer.
fn index(distance: u64) -> usize {
    usize::try_from(distance).expect("within a buffer in memory")
}
