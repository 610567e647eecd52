//! The bytes of chunks on their way through the pipeline, in a bounded number of buffers.

use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::format::MAX_CHUNK;
use jetfrost_image::tree::ChunkBuffer;

/// What is not longer than this is copied: many short chunks on their way need little memory then.
pub(super) const SHORT: usize = 64 << 10;
/// Buffers there are at most beside one for each thread that seals, each as long as the longest chunk: what a question to the
/// service may hold, and a few that are being filled. A short run touches all of them, and fresh memory costs time.
pub(super) const BUFFERS: usize = 10;

/// The bytes of a chunk on its way.
pub(super) enum Carried {
    Copied(Vec<u8>),
    /// In the buffer into which they were read.
    AsRead(Lent),
}

impl Carried {
    pub(super) fn bytes(&self) -> &[u8] {
        match self {
            Self::Copied(bytes) => bytes,
            Self::AsRead(lent) => lent.bytes(),
        }
    }

    /// Bytes of cache.
    pub(super) fn room(&self) -> usize {
        match self {
            Self::Copied(bytes) => bytes.len(),
            Self::AsRead(_) => MAX_CHUNK,
        }
    }
}

/// A buffer with the bytes of a chunk; it goes back when the chunk is done with.
pub(super) struct Lent {
    /// Only taken when it goes back.
    buffer: Option<ChunkBuffer>,
    len: usize,
    returned: Sender<ChunkBuffer>,
}

impl Lent {
    fn bytes(&self) -> &[u8] {
        self.buffer.as_ref().map_or(&[], |buffer| &buffer[..self.len])
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        // There is room for all of them. When nobody waits for it any more, it goes.
        let _ = self.buffer.take().map(|buffer| self.returned.try_send(buffer));
    }
}

/// Lends buffers, a bounded number of them.
pub(super) struct Buffers {
    returned: Sender<ChunkBuffer>,
    spare: Receiver<ChunkBuffer>,
    /// So many may still be made.
    unmade: usize,
}

impl Buffers {
    /// Buffers for so many threads that seal.
    pub(super) fn new(sealers: usize) -> Self {
        let unmade = BUFFERS + sealers;
        let (returned, spare) = bounded(unmade);
        Self { returned, spare, unmade }
    }

    /// Takes a buffer with the bytes of a chunk and leaves another in its place; waits for one to come back when there are no
    /// more.
    pub(super) fn lend(&mut self, buffer: &mut ChunkBuffer, len: usize) -> Carried {
        let other = self.spare.try_recv().ok().or_else(|| self.one_more()).or_else(|| self.spare.recv().ok());
        let lent = std::mem::replace(buffer, other.unwrap_or_default());
        Carried::AsRead(Lent { buffer: Some(lent), len, returned: self.returned.clone() })
    }

    fn one_more(&mut self) -> Option<ChunkBuffer> {
        self.unmade = self.unmade.checked_sub(1)?;
        Some(ChunkBuffer::default())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::VecDeque;

    use super::*;

    #[test]
    fn no_more_buffers_are_made_than_there_may_be_and_what_is_lent_keeps_its_bytes_until_it_goes_back() {
        let (mut buffers, mut reading) = (Buffers::new(2), ChunkBuffer::default());
        let mut lent: VecDeque<(u8, Carried)> = VecDeque::new();
        for round in 0..100 {
            if lent.len() == BUFFERS + 2 {
                let (then, oldest) = lent.pop_front().expect("not empty");
                assert_eq!(oldest.bytes(), [then; 3]);
            }
            reading[..3].fill(round);
            lent.push_back((round, buffers.lend(&mut reading, 3)));
        }
        assert_eq!(buffers.unmade, 0);
    }
}
