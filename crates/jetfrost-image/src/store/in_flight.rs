//! What a run in progress relies on: chunks that it was told are present, and segments that it sent.
//!
//! A run does not send chunks that it was told are present. Were such a chunk dropped before the run's point is committed, the
//! commit would be refused and the run would have been for nothing.

use std::collections::HashSet;

use crate::id::{ChunkName, SegmentHash};

/// Bits of the filter: 1 MiB. With a million promised chunks one other chunk in seventeen is kept a little longer.
const BITS: usize = 1 << 23;

/// Short segments that a run may bring. A writer fills its segments; the last one may be short, and a few that were cut off.
const MOST_SHORT: u32 = 32;

/// The promises of one store. Chunks are kept in a Bloom filter (Bloom 1970) of fixed size: a false "promised" costs
/// room until the next time, a false "not promised" does not occur.
#[derive(Debug, Default)]
pub(super) struct InFlight {
    run: bool,
    /// Whether all that the run was told is in here, and not only what it was told since the store was opened again.
    from_its_beginning: bool,
    chunks: Option<Vec<u64>>,
    segments: HashSet<SegmentHash>,
    /// Short segments that the run brought.
    short: u32,
}

impl InFlight {
    /// Notes that a run begins.
    pub(super) fn begin_run(&mut self) {
        (self.run, self.from_its_beginning, self.short) = (true, true, 0);
    }

    /// Notes that a run is under way; it may have begun before the store was opened.
    pub(super) fn go_on_with_run(&mut self) {
        self.run = true;
    }

    /// Whether all is known that the run under way was told.
    pub(super) fn knows_all(&self) -> bool {
        self.from_its_beginning
    }

    /// Notes that none is. What was promised stays so until [`InFlight::forget`].
    pub(super) fn end_run(&mut self) {
        (self.run, self.from_its_beginning) = (false, false);
    }

    /// Forgets all in_flight, unless a run counts on them.
    pub(super) fn forget(&mut self) {
        if !self.run {
            *self = Self::default();
        }
    }

    pub(super) fn promise(&mut self, name: &ChunkName) {
        let bits = self.chunks.get_or_insert_with(|| vec![0; BITS / 64]);
        for at in places(name) {
            bits[at / 64] |= 1 << (at % 64);
        }
    }

    pub(super) fn promise_segment(&mut self, hash: SegmentHash) {
        self.segments.insert(hash);
    }

    pub(super) fn holds(&self, name: &ChunkName) -> bool {
        self.chunks.as_ref().is_some_and(|bits| places(name).all(|at| bits[at / 64] & (1 << (at % 64)) != 0))
    }

    /// Counts one more short segment; false when the run brought as many as it may.
    pub(super) fn one_more_short(&mut self) -> bool {
        self.short += 1;
        self.short <= MOST_SHORT
    }

    pub(super) fn holds_segment(&self, hash: &SegmentHash) -> bool {
        self.segments.contains(hash)
    }
}

/// Where a name stands in the filter. Names are hashes already; no further hashing is needed.
fn places(name: &ChunkName) -> impl Iterator<Item = usize> + '_ {
    name.0.chunks_exact(4).take(4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]) as usize % BITS)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(i: u32) -> ChunkName {
        ChunkName(*blake3::hash(&i.to_le_bytes()).as_bytes())
    }

    #[test]
    fn what_was_promised_is_held_and_little_else() {
        let mut in_flight = InFlight::default();
        in_flight.begin_run();
        (0..100_000).for_each(|i| in_flight.promise(&name(i)));
        assert!((0..100_000).all(|i| in_flight.holds(&name(i))));
        let others = (100_000..200_000).filter(|i| in_flight.holds(&name(*i))).count();
        assert!(others < 100, "{others} of 100,000 others are held");
    }

    #[test]
    fn promises_last_as_long_as_a_run_counts_on_them() {
        let mut in_flight = InFlight::default();
        in_flight.begin_run();
        in_flight.promise(&name(1));
        in_flight.forget();
        assert!(in_flight.holds(&name(1)));
        in_flight.end_run();
        in_flight.forget();
        assert!(!in_flight.holds(&name(1)));
    }
}
