//! Which files a drill brings back.

use std::collections::HashSet;
use std::sync::Arc;

use jetfrost_image::format::{Entry, EntryKind};

use crate::same_content::number_of;

/// Draws files, the same ones however often it is asked.
#[derive(Debug, Clone)]
pub(crate) enum Sample {
    /// At random, from a seed and a file's path.
    Random {
        seed: [u8; 32],
        /// Of 2³² possible numbers, those below this are drawn.
        below: u64,
        largest: u64,
    },
    /// Those with certain contents, by their numbers.
    These(Arc<HashSet<u64>>),
}

impl Sample {
    /// Draws this share of the files, 0 to 1, and none with more bytes than `largest`.
    pub(crate) fn new(seed: [u8; 32], share: f64, largest: u64) -> Self {
        Self::Random { seed, below: (share.clamp(0.0, 1.0) * (1_u64 << 32) as f64) as u64, largest }
    }

    /// Whether something is brought back. What has no content always is.
    pub(crate) fn takes(&self, path: &[u8], entry: &Entry) -> bool {
        if entry.kind != EntryKind::File {
            return true;
        }
        match self {
            Self::Random { seed, below, largest } => {
                let path = path.strip_prefix(b"/").unwrap_or(path);
                let hash = blake3::keyed_hash(seed, path);
                let number = u32::from_le_bytes(hash.as_bytes()[..4].try_into().expect("four bytes"));
                u64::from(number) < *below && entry.len() <= *largest
            }
            Self::These(contents) => entry.content.as_ref().is_some_and(|content| contents.contains(&number_of(content))),
        }
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_image::format::Content;

    use super::*;

    fn file(len: u64) -> Entry {
        let mut entry = Entry::new(b"file".to_vec(), EntryKind::File);
        entry.content = Some(Content { len, ..Content::empty() });
        entry
    }

    #[test]
    fn about_the_share_is_drawn_and_the_same_ones_again() {
        let sample = Sample::new([3; 32], 0.1, 100);
        let taken =
            |sample: &Sample| (0..10_000).filter(|i| sample.takes(format!("/home/{i}").as_bytes(), &file(1))).collect::<Vec<_>>();
        assert!((900..1100).contains(&taken(&sample).len()), "{}", taken(&sample).len());
        assert_eq!(taken(&sample), taken(&sample));
        assert_ne!(taken(&sample), taken(&Sample::new([4; 32], 0.1, 100)), "another seed draws others");
        assert!(sample.takes(b"/a", &file(1)) == sample.takes(b"a", &file(1)));
    }

    #[test]
    fn all_or_none_can_be_drawn_but_none_that_is_too_large() {
        assert!(Sample::new([3; 32], 1.0, 100).takes(b"/a", &file(100)));
        assert!(!Sample::new([3; 32], 1.0, 100).takes(b"/a", &file(101)));
        assert!(!Sample::new([3; 32], 0.0, 100).takes(b"/a", &file(1)));
    }
}
