//! What a store occupies: whole blocks of its medium, for that is what a file takes of a volume.

use std::sync::atomic::{AtomicU64, Ordering};

use crate::medium::Medium;

/// Bytes that a file of `len` bytes occupies on a medium.
pub(super) fn occupied(on: &dyn Medium, len: u64) -> u64 {
    let block = on.block().max(1);
    len.div_ceil(block).saturating_mul(block)
}

/// Bytes that a store occupies. It never wraps: a store that is counted as too small for a moment is counted anew when it
/// is opened, one that is counted as 2^64 bytes shuts its owner out.
#[derive(Debug, Default)]
pub(super) struct Used(AtomicU64);

impl Used {
    pub(super) fn new(bytes: u64) -> Self {
        Self(AtomicU64::new(bytes))
    }

    pub(super) fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }

    /// Adds what the store grew by; negative when it shrank.
    pub(super) fn grow(&self, by: i64) {
        let grown = |used: u64| Some(used.saturating_add_signed(by));
        // The closure always gives a value.
        let _ = self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, grown);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::MemoryMedium;

    #[test]
    fn a_file_occupies_whole_blocks() {
        let on = MemoryMedium::default();
        assert_eq!([0, 1, 4096, 4097].map(|len| occupied(&on, len)), [0, 4096, 4096, 8192]);
    }

    #[test]
    fn what_is_taken_twice_does_not_wrap() {
        let used = Used::new(10);
        used.grow(-30);
        used.grow(5);
        assert_eq!(used.get(), 5);
    }
}
