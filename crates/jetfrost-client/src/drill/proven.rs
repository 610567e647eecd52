//! Which contents drills have brought back, so that the next one draws others. It is known by numbers that tell contents apart and say nothing of
//! names; losing it costs that some are drawn a second time.

use std::collections::HashSet;
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::path::Path;

use jetfrost_image::medium::replace_file;

use super::Drawing;

const MAGIC: &[u8; 8] = b"\x89JFPRV\r\n";
/// More than so many contents are not remembered: then it begins anew. 8 bytes each.
const MOST: usize = 1 << 20;
/// The hash at the end.
const CHECK: usize = 32;

/// What drills have brought back.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Proven {
    pub(super) contents: HashSet<u64>,
    /// How the last one drew.
    pub(super) last: Option<Drawing>,
}

impl Proven {
    /// What is remembered at a path; nothing where that is damaged or not there.
    pub(super) fn read(at: &Path) -> Self {
        fs::read(at).ok().and_then(|bytes| Self::from_bytes(&bytes)).unwrap_or_default()
    }

    fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (body, check) = bytes.split_at_checked(bytes.len().checked_sub(CHECK)?)?;
        (blake3::hash(body).as_bytes() == check).then_some(())?;
        let (last, numbers) = body.strip_prefix(MAGIC)?.split_first()?;
        let last = match last {
            0 => None,
            1 => Some(Drawing::AtRandom),
            2 => Some(Drawing::Unproven),
            _ => return None,
        };
        let (numbers, rest) = numbers.as_chunks();
        rest.is_empty().then(|| Self { contents: numbers.iter().map(|number| u64::from_le_bytes(*number)).collect(), last })
    }

    fn to_bytes(&self) -> Vec<u8> {
        let last = match self.last {
            None => 0,
            Some(Drawing::AtRandom) => 1,
            Some(Drawing::Unproven) => 2,
        };
        let mut bytes = [MAGIC.as_slice(), &[last]].concat();
        let mut numbers: Vec<u64> = self.contents.iter().copied().collect();
        numbers.sort_unstable();
        numbers.iter().for_each(|number| bytes.extend(number.to_le_bytes()));
        let check = blake3::hash(&bytes);
        bytes.extend(check.as_bytes());
        bytes
    }

    /// How the next drill draws: by turns.
    pub(super) fn next(&self) -> Drawing {
        match self.last {
            Some(Drawing::Unproven) => Drawing::AtRandom,
            Some(Drawing::AtRandom) | None => Drawing::Unproven,
        }
    }

    /// Takes in what a drill brought back.
    pub(super) fn add(&mut self, drawing: Drawing, contents: impl IntoIterator<Item = u64>) {
        self.last = Some(drawing);
        self.contents.extend(contents);
        if self.contents.len() > MOST {
            self.contents.clear();
        }
    }

    /// Begins anew: everything was brought back once.
    pub(super) fn forget(&mut self) {
        self.contents.clear();
    }

    pub(super) fn keep(&self, at: &Path) -> io::Result<()> {
        let bytes = self.to_bytes();
        replace_file(at, &mut OpenOptions::new(), |file| file.write_all(&bytes))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_kept_reads_back_and_a_flipped_bit_makes_it_nothing(contents: HashSet<u64>, seed: usize, bit in 0_u8..8) {
            let mut proven = Proven::default();
            proven.add(Drawing::AtRandom, contents);
            let mut bytes = proven.to_bytes();
            prop_assert_eq!(Proven::from_bytes(&bytes), Some(proven));
            let at = seed % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert_eq!(Proven::from_bytes(&bytes), None);
            prop_assert_eq!(Proven::from_bytes(&bytes[..at]), None);
        }

        #[test]
        fn any_bytes_are_read_or_nothing(bytes: Vec<u8>) {
            let _ = Proven::from_bytes(&bytes);
        }
    }

    #[test]
    fn drills_draw_by_turns_and_begin_with_what_none_has_drawn() {
        let mut proven = Proven::default();
        let turns: Vec<Drawing> = (0..4)
            .map(|_| {
                let drawing = proven.next();
                proven.add(drawing, []);
                drawing
            })
            .collect();
        assert_eq!(turns, [Drawing::Unproven, Drawing::AtRandom, Drawing::Unproven, Drawing::AtRandom]);
    }
}
