//! Reading from anywhere in a disk or file of a point: only the chunks behind the range are fetched, and a few are kept.

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

/// Bytes that are fetched beyond a read that goes on where another ended.
const AHEAD: u64 = 4 << 20;
/// Readers that are followed side by side.
const READERS: NonZeroUsize = NonZeroUsize::new(32).expect("not zero");

/// Chunks that were read lately.
#[derive(Clone)]
pub(crate) struct KeptChunks(Arc<Mutex<LruCache<ChunkName, Chunk>>>);

impl Default for KeptChunks {
    fn default() -> Self {
        Self(Arc::new(Mutex::new(LruCache::new(KEPT))))
    }
}

/// The content of a disk or file in a recovery point, open for reading. May be read by several threads.
pub struct ContentReader {
    browser: Browser,
    content: Content,
    kept: KeptChunks,
    /// Where the latest reads ended.
    ends: Mutex<LruCache<u64, ()>>,
}

/// A stretch of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stretch {
    /// Bytes.
    pub len: u64,
    /// Whether there is nothing but zeros, which were never stored.
    pub is_hole: bool,
}

impl ContentReader {
    pub(crate) fn new(browser: Browser, content: Content) -> Self {
        Self::sharing(KeptChunks::default(), browser, content)
    }

    /// One that keeps chunks together with others.
    pub(crate) fn sharing(kept: KeptChunks, browser: Browser, content: Content) -> Self {
        Self { browser, content, kept, ends: Mutex::new(LruCache::new(READERS)) }
    }

    /// Bytes of it.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.content.len
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.content.len == 0
    }

    pub(crate) fn content(&self) -> &Content {
        &self.content
    }

    /// `len` bytes from `offset`, or as many as there are.
    ///
    /// # Errors
    /// As [`ContentReader::read_at`].
    pub fn read(&self, offset: u64, len: usize) -> Result<Vec<u8>> {
        let there = self.len().saturating_sub(offset).min(len as u64);
        let mut bytes = vec![0; usize::try_from(there).expect("not more than was asked for")];
        self.read_at(&mut bytes, offset)?;
        Ok(bytes)
    }

    /// Fills the buffer from `offset`, which with its length must lie within it.
    ///
    /// # Errors
    /// [`ClientError::Damaged`]; what the service said.
    pub fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let (stretches, data) = self.read_data(offset..offset + buffer.len() as u64)?;
        let (mut at, mut taken) = (0, 0);
        for stretch in stretches {
            let len = index(stretch.len);
            let into = &mut buffer[at..at + len];
            if stretch.is_hole {
                into.fill(0);
            } else {
                into.copy_from_slice(&data[taken..taken + len]);
                taken += len;
            }
            at += len;
        }
        Ok(())
    }

    /// What is data and what is a hole in a range, and the bytes of the data one after the other.
    ///
    /// # Errors
    /// As [`ContentReader::read_at`].
    pub fn read_data(&self, range: Range<u64>) -> Result<(Vec<Stretch>, Vec<u8>)> {
        let ahead = if self.follows(&range) { AHEAD } else { 0 };
        let parts = self.parts(range.start..(range.end + ahead).min(self.len()))?;
        let within = |(at, _): &&(u64, Part)| *at < range.end;
        let wanted = parts.iter().filter(within).filter_map(|(_, part)| part.name);
        let next = parts.iter().skip_while(within).filter_map(|(_, part)| part.name);
        let chunks = self.chunks(wanted, next)?;
        let mut data = Vec::with_capacity(index(range.end - range.start));
        for (at, part) in parts.iter().filter(within) {
            let Some(name) = part.name else { continue };
            let (from, to) = (range.start.max(*at), range.end.min(at + part.len));
            let chunk = &chunks[&name];
            if chunk.len() as u64 != part.len {
                return Err(ClientError::Damaged);
            }
            data.extend(&chunk[index(from - at)..index(to - at)]);
        }
        Ok((as_stretches(&parts, &range), data))
    }

    /// Whether a read goes on where an earlier one ended: then more will be wanted.
    fn follows(&self, range: &Range<u64>) -> bool {
        let mut ends = self.ends.lock().unwrap_or_else(PoisonError::into_inner);
        let follows = ends.pop(&range.start).is_some();
        ends.put(range.end, ());
        follows
    }

    /// What is data and what is a hole, in order; neighbours differ.
    ///
    /// # Errors
    /// As [`ContentReader::read_at`].
    pub fn stretches(&self, range: Range<u64>) -> Result<Vec<Stretch>> {
        Ok(as_stretches(&self.parts(range.clone())?, &range))
    }

    fn parts(&self, range: Range<u64>) -> Result<Vec<(u64, Part)>> {
        let mut parts = Vec::new();
        parts_between(self, &self.content, range, &mut |offset, part| {
            parts.push((offset, part));
            Ok(())
        })?;
        Ok(parts)
    }

    /// The `wanted` chunks; those that are not kept come in one call, and with them those that will be wanted `next`.
    fn chunks(
        &self,
        names: impl Iterator<Item = ChunkName>,
        next: impl Iterator<Item = ChunkName>,
    ) -> Result<HashMap<ChunkName, Chunk>> {
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
        let needed = wanted.len();
        wanted.extend(next.filter(|name| !self.kept().contains(name)));
        let mut opener = Opener::new(self.browser.keys.clone());
        self.browser.source.fetch(&wanted, |i, sealed| {
            let sealed = match sealed {
                Some(sealed) => sealed,
                None if i < needed => return Err(ClientError::Damaged),
                // It is reported when it is wanted.
                None => return Ok(()),
            };
            let chunk = Arc::new(opener.open(&wanted[i], sealed)?.to_vec());
            self.kept().put(wanted[i], Arc::clone(&chunk));
            chunks.insert(wanted[i], chunk);
            Ok(())
        })?;
        Ok(chunks)
    }

    fn kept(&self) -> MutexGuard<'_, LruCache<ChunkName, Chunk>> {
        self.kept.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl ChunkSource for ContentReader {
    type Error = ClientError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>> {
        let chunks = self.chunks(std::iter::once(*name), std::iter::empty())?;
        Ok(chunks.get(name).ok_or(ClientError::Damaged)?.to_vec())
    }
}

/// What parts come to within a range, neighbours of the same kind as one.
fn as_stretches(parts: &[(u64, Part)], range: &Range<u64>) -> Vec<Stretch> {
    let mut stretches: Vec<Stretch> = Vec::new();
    for (at, part) in parts.iter().take_while(|(at, _)| *at < range.end) {
        let len = range.end.min(at + part.len) - range.start.max(*at);
        let is_hole = part.name.is_none();
        match stretches.last_mut() {
            Some(last) if last.is_hole == is_hole => last.len += len,
            _ => stretches.push(Stretch { len, is_hole }),
        }
    }
    stretches
}

/// A distance within a buffer.
fn index(distance: u64) -> usize {
    usize::try_from(distance).expect("within a buffer in memory")
}
