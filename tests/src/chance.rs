//! What tests leave to chance: the same each time, for a seed.

use jetfrost_image::crypto::{Random, SeededRandom};

/// A number that the environment may set.
#[must_use]
pub fn wanted(variable: &str, usual: u64) -> u64 {
    std::env::var(variable).ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

/// Draws of a seed.
pub struct Chance(SeededRandom);

impl Chance {
    /// Always the same ones for a seed.
    #[must_use]
    pub fn of(seed: &str) -> Self {
        Self(SeededRandom::new(seed.as_bytes()))
    }

    /// A number below `most`, which is taken for 1 at least.
    #[must_use]
    pub fn below(&self, most: usize) -> usize {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        usize::try_from(u64::from_le_bytes(bytes) % most.max(1) as u64).expect("below a usize")
    }

    /// Up to `most` bytes, at least one; half of the draws are of one letter.
    #[must_use]
    pub fn bytes(&self, most: usize) -> Vec<u8> {
        let mut bytes = vec![0; self.below(most) + 1];
        if self.below(2) == 0 {
            bytes.fill(b'j');
        } else {
            self.0.fill(&mut bytes);
        }
        bytes
    }
}
