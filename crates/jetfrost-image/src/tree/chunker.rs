//! Content-defined borders (§ 4).

use std::io::{self, Read};

use super::gear::{Gear, MIN_CHUNK};
use crate::format::MAX_CHUNK;

/// Bytes looked at together.
const WINDOW: usize = 4 * MAX_CHUNK;

/// Cuts streams into chunks; keeps its buffer from one stream to the next.
#[derive(Debug)]
pub struct Chunker {
    gear: Gear,
    buffer: Vec<u8>,
}

impl Chunker {
    /// A chunker whose borders depend on `seed`.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { gear: Gear::new(seed), buffer: vec![0; WINDOW] }
    }

    /// Reads a stream to its end and gives each chunk to `each`, in order. Returns the number of bytes.
    ///
    /// # Errors
    /// Of the reader, or what `each` returns.
    pub fn cut<E: From<io::Error>>(
        &mut self,
        mut from: impl Read,
        mut each: impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<u64, E> {
        let (mut kept, mut total) = (0, 0);
        loop {
            let (filled, at_end) = fill(&mut from, &mut self.buffer, kept)?;
            total += (filled - kept) as u64;
            let used = cut_window(&self.gear, &self.buffer[..filled], at_end, &mut each)?;
            if at_end {
                return Ok(total);
            }
            self.buffer.copy_within(used..filled, 0);
            kept = filled - used;
        }
    }
}

/// Fills the buffer behind what was kept; says how far, and whether the stream has ended.
fn fill(from: &mut impl Read, buffer: &mut [u8], kept: usize) -> io::Result<(usize, bool)> {
    let mut filled = kept;
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

/// Gives out the chunks of a window; the last one stays unless the stream ends with it, for its border is not known yet.
fn cut_window<E>(gear: &Gear, window: &[u8], at_end: bool, each: &mut impl FnMut(&[u8]) -> Result<(), E>) -> Result<usize, E> {
    let mut used = 0;
    while window.len() - used > MIN_CHUNK {
        let end = used + gear.first_chunk(&window[used..]);
        // With more of the stream, a border might be found that is not there yet; behind the longest none is looked for.
        if end == window.len() && end - used < MAX_CHUNK && !at_end {
            return Ok(used);
        }
        each(&window[used..end])?;
        used = end;
    }
    if at_end && used < window.len() {
        each(&window[used..])?;
        used = window.len();
    }
    Ok(used)
}
