//! Chance that repeats itself for the same seed.

use jetfrost_image::crypto::{Random, SeededRandom};

/// Dice that fall the same way for the same seed.
pub(crate) struct Dice(SeededRandom);

impl Dice {
    pub(crate) fn new(seed: &str) -> Self {
        Self(SeededRandom::new(seed.as_bytes()))
    }

    /// A number from `from` to `to`, both included.
    pub(crate) fn between(&self, from: u64, to: u64) -> u64 {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        from + u64::from_le_bytes(bytes) % (to - from + 1)
    }

    pub(crate) fn choose<'a, T>(&self, from: &'a [T]) -> &'a T {
        &from[usize::try_from(self.between(0, from.len() as u64 - 1)).expect("an index")]
    }

    /// Bytes that do not compress.
    pub(crate) fn noise(&self, len: u64) -> Vec<u8> {
        let mut bytes = vec![0; usize::try_from(len).expect("small")];
        self.0.fill(&mut bytes);
        bytes
    }
}
