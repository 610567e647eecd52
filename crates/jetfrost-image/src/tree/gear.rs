//! Where content is cut: FastCDC (Xia et al., USENIX ATC 2016), a gear hash over the last 64 bytes. Nothing is looked at before
//! the shortest length, a border is hard to find before the average and easier behind it.
//!
//! The search is our own, for its speed: a hash depends on 64 bytes only, so four stretches are searched in step, which takes a
//! processor less time than one after the other, whose every step waits for the one before.

/// Nothing shorter than this is cut.
pub const MIN_CHUNK: usize = 128 << 10;
const AVERAGE_CHUNK: usize = 256 << 10;
/// What a hash must be below before the average length, and behind it: one bit less and one more than the average asks for.
/// So its highest bits are zeros, in which all bytes that it reaches have a part.
const BEFORE: u64 = 1 << (64 - 19);
const BEHIND: u64 = 1 << (64 - 17);
/// Bytes that a hash depends on: older ones are shifted out of it.
const REACH: usize = 64;
/// Bytes of a stretch; four of them are searched in step.
const STRETCH: usize = 2048;

/// A random number for every byte.
#[derive(Debug)]
pub(super) struct Gear([u64; 256]);

impl Gear {
    /// The numbers that belong to a seed (§ 4).
    pub(super) fn new(seed: u64) -> Self {
        let mut bytes = [0; 256 * 8];
        let mut hasher = blake3::Hasher::new_derive_key("jetfrost v1 gear");
        hasher.update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
        let mut numbers = [0; 256];
        for (number, bytes) in numbers.iter_mut().zip(bytes.as_chunks().0) {
            *number = u64::from_le_bytes(*bytes);
        }
        Self(numbers)
    }

    /// The first border in a chunk that begins with `bytes`, when there is none before `from`, which is not before the shortest
    /// length.
    pub(super) fn border(&self, bytes: &[u8], from: usize) -> Option<usize> {
        let from = from.min(bytes.len());
        let average = bytes.len().min(AVERAGE_CHUNK).max(from);
        let before = self.first_below(BEFORE, bytes, from, average);
        before.or_else(|| self.first_below(BEHIND, bytes, average, bytes.len()))
    }

    /// The end of the first byte of `from..to` whose hash is below `limit`.
    fn first_below(&self, limit: u64, bytes: &[u8], mut from: usize, to: usize) -> Option<usize> {
        while from + 4 * STRETCH <= to && !self.has_border_in_four(bytes, from, limit) {
            from += 4 * STRETCH;
        }
        let mut hash = self.before(bytes, from);
        let found = bytes[from..to].iter().position(|byte| {
            hash = self.next(hash, *byte);
            hash < limit
        });
        found.map(|at| from + at + 1)
    }

    /// Whether there is a border in the next four stretches, side by side. Which one is the first is not worth knowing here: it
    /// is found by going through these few bytes once more.
    fn has_border_in_four(&self, bytes: &[u8], from: usize, limit: u64) -> bool {
        let start = |i: usize| from + i * STRETCH;
        let stretch = |i: usize| bytes[start(i)..start(i + 1)].iter();
        let [mut one, mut two, mut three, mut four] = std::array::from_fn(|i| self.before(bytes, start(i)));
        for (((a, b), c), d) in stretch(0).zip(stretch(1)).zip(stretch(2)).zip(stretch(3)) {
            // Each is a branch of its own, hardly ever taken: that is what makes this quick.
            one = self.next(one, *a);
            if one < limit {
                return true;
            }
            two = self.next(two, *b);
            if two < limit {
                return true;
            }
            three = self.next(three, *c);
            if three < limit {
                return true;
            }
            four = self.next(four, *d);
            if four < limit {
                return true;
            }
        }
        false
    }

    /// The hash before the byte at `at`.
    fn before(&self, bytes: &[u8], at: usize) -> u64 {
        bytes[at.saturating_sub(REACH)..at].iter().fold(0, |hash, byte| self.next(hash, *byte))
    }

    fn next(&self, hash: u64, byte: u8) -> u64 {
        (hash << 1).wrapping_add(self.0[usize::from(byte)])
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::crypto::{Random, SeededRandom};
    use crate::format::MAX_CHUNK;

    fn noise(seed: &[u8], len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        SeededRandom::new(seed).fill(&mut bytes);
        bytes
    }

    /// The search as the paper has it: one byte after the other.
    fn one_by_one(gear: &Gear, bytes: &[u8]) -> Option<usize> {
        let mut hash = gear.before(bytes, MIN_CHUNK);
        for (at, byte) in bytes.iter().enumerate().skip(MIN_CHUNK) {
            hash = gear.next(hash, *byte);
            if hash < (if at < AVERAGE_CHUNK { BEFORE } else { BEHIND }) {
                return Some(at + 1);
            }
        }
        None
    }

    /// The search in steps of some length, as the bytes of a stream arrive.
    fn step_by_step(gear: &Gear, bytes: &[u8], step: usize) -> Option<usize> {
        let ends = (MIN_CHUNK..bytes.len()).step_by(step).map(|from| (from, bytes.len().min(from + step)));
        ends.into_iter().find_map(|(from, to)| gear.border(&bytes[..to], from))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn four_at_a_time_and_step_by_step_find_what_one_by_one_finds(
            seed: u64,
            len in MIN_CHUNK..MAX_CHUNK,
            repeat in 1_usize..300_000,
            step in 1000..200_000_usize,
        ) {
            let gear = Gear::new(seed);
            let bytes: Vec<u8> = noise(&seed.to_le_bytes(), repeat).into_iter().cycle().take(len).collect();
            let border = one_by_one(&gear, &bytes);
            prop_assert_eq!(gear.border(&bytes, MIN_CHUNK), border);
            prop_assert_eq!(step_by_step(&gear, &bytes, step), border);
        }
    }

    #[test]
    fn chunks_are_about_as_long_as_meant_and_what_repeats_itself_has_no_border() {
        let (gear, bytes) = (Gear::new(7), noise(b"gear", 64 << 20));
        let (mut at, mut chunks) = (0, 0);
        while at < bytes.len() - MAX_CHUNK {
            at += gear.border(&bytes[at..at + MAX_CHUNK], MIN_CHUNK).unwrap_or(MAX_CHUNK);
            chunks += 1;
        }
        let average = at / chunks;
        assert!((AVERAGE_CHUNK..AVERAGE_CHUNK + 2 * MIN_CHUNK).contains(&average), "{average}");
        assert_eq!(gear.border(&vec![0; MAX_CHUNK], MIN_CHUNK), None);
    }
}
