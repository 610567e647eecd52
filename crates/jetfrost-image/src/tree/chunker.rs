//! Content-defined borders (§ 4).

use std::io::{self, Read};
use std::ops::{Deref, DerefMut};

use super::gear::{Gear, MIN_CHUNK};
use crate::format::MAX_CHUNK;

/// Bytes read at a time: few enough that they are still in the processor's cache when they are searched and named.
const STEP: usize = 128 << 10;

/// Room for the bytes of any chunk. Whoever takes one away leaves another in its place, so that chunks need not be copied.
#[derive(Debug)]
pub struct ChunkBuffer(Box<[u8]>);

impl Default for ChunkBuffer {
    fn default() -> Self {
        Self(vec![0; MAX_CHUNK].into())
    }
}

impl Deref for ChunkBuffer {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl DerefMut for ChunkBuffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.0
    }
}

/// Cuts streams into chunks; keeps its buffers from one stream to the next.
#[derive(Debug)]
pub struct Chunker {
    gear: Gear,
    buffer: ChunkBuffer,
    /// What was read behind a border.
    rest: Vec<u8>,
}

impl Chunker {
    /// A chunker whose borders depend on `seed`.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { gear: Gear::new(seed), buffer: ChunkBuffer::default(), rest: Vec::with_capacity(STEP) }
    }

    /// Reads a stream to its end and gives each chunk to `each`, in order, as the first bytes of a buffer and their number.
    /// Returns the number of bytes of all.
    ///
    /// # Errors
    /// Of the reader, or what `each` returns.
    pub fn cut<E: From<io::Error>>(
        &mut self,
        mut from: impl Read,
        mut each: impl FnMut(&mut ChunkBuffer, usize) -> Result<(), E>,
    ) -> Result<u64, E> {
        let (mut filled, mut searched, mut at_end, mut total) = (0, MIN_CHUNK, false, 0);
        loop {
            if !at_end {
                let wanted = MAX_CHUNK.min(searched + STEP);
                let before = filled;
                (filled, at_end) = fill(&mut from, &mut self.buffer[..wanted], before)?;
                total += (filled - before) as u64;
            }
            match self.gear.border(&self.buffer[..filled], searched) {
                Some(end) => filled = self.give(end, filled, &mut each)?,
                None if at_end || filled == MAX_CHUNK => filled = self.give(filled, filled, &mut each)?,
                None => {
                    searched = filled;
                    continue;
                }
            }
            if at_end && filled == 0 {
                return Ok(total);
            }
            searched = MIN_CHUNK;
        }
    }

    /// Gives a chunk away and moves what is behind it to the front; returns how much that is.
    fn give<E>(
        &mut self,
        end: usize,
        filled: usize,
        each: &mut impl FnMut(&mut ChunkBuffer, usize) -> Result<(), E>,
    ) -> Result<usize, E> {
        if end == 0 {
            return Ok(0);
        }
        self.rest.clear();
        self.rest.extend_from_slice(&self.buffer[end..filled]);
        each(&mut self.buffer, end)?;
        self.buffer[..self.rest.len()].copy_from_slice(&self.rest);
        Ok(self.rest.len())
    }
}

/// Fills the buffer behind what is in it; says how far, and whether the stream has ended.
fn fill(from: &mut impl Read, buffer: &mut [u8], mut filled: usize) -> io::Result<(usize, bool)> {
    while filled < buffer.len() {
        match from.read(&mut buffer[filled..]) {
            Ok(0) => return Ok((filled, true)),
            Ok(n) => filled += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok((filled, false))
}
