//! The one source of random values.

use std::sync::Mutex;

use ring::rand::SecureRandom;

/// Where random bytes come from.
pub trait Random: Send + Sync {
    /// Fills `bytes`.
    fn fill(&self, bytes: &mut [u8]);
}

/// The operating system's generator.
#[derive(Debug, Clone)]
pub struct SystemRandom(ring::rand::SystemRandom);

impl Default for SystemRandom {
    fn default() -> Self {
        Self(ring::rand::SystemRandom::new())
    }
}

impl Random for SystemRandom {
    fn fill(&self, bytes: &mut [u8]) {
        // Without random bytes nothing that follows would be secret; going on is not an option.
        self.0.fill(bytes).expect("the operating system gives random bytes");
    }
}

/// Repeats itself for the same seed: for tests, vectors and the demo. Never for keys that protect anything.
#[derive(Debug)]
pub struct SeededRandom(Mutex<blake3::OutputReader>);

impl SeededRandom {
    /// A source that depends on `seed` only.
    #[must_use]
    pub fn new(seed: &[u8]) -> Self {
        Self(Mutex::new(blake3::Hasher::new_derive_key("jetfrost seeded random").update(seed).finalize_xof()))
    }
}

impl Random for SeededRandom {
    fn fill(&self, bytes: &mut [u8]) {
        self.0.lock().expect("filling does not panic").fill(bytes);
    }
}

/// An array of random bytes.
pub fn random_array<const N: usize>(random: &dyn Random) -> [u8; N] {
    let mut bytes = [0; N];
    random.fill(&mut bytes);
    bytes
}
