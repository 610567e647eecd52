//! The chunks that a point needs, and how often each occurs in it.

use std::io::{self, Write};
use std::sync::Arc;

use jetfrost_image::ChunkName;
use jetfrost_image::format::PointHead;

/// Chunks that a point needs.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(crate) struct Needs {
    /// Their names, ascending, each once.
    pub(crate) names: Arc<Vec<ChunkName>>,
    /// How often each occurs.
    times: Vec<u32>,
    /// All names, one upon the other.
    pub(crate) xor: [u8; 32],
}

/// A change of what is needed.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Difference {
    /// Names that were not needed before, ascending.
    pub(crate) added: Vec<ChunkName>,
    /// Names that are not needed any more, ascending.
    pub(crate) removed: Vec<ChunkName>,
}

impl Needs {
    /// Of names in no order, some more than once.
    pub(crate) fn of(mut all: Vec<ChunkName>) -> Self {
        all.sort_unstable();
        let mut times: Vec<u32> = Vec::new();
        let mut last = None;
        for name in &all {
            match times.last_mut() {
                Some(times) if last == Some(*name) => *times = times.saturating_add(1),
                _ => times.push(1),
            }
            last = Some(*name);
        }
        all.dedup();
        Self::new(all, times)
    }

    /// With some names less and some more; none when that does not come out even, so that one of the two is wrong.
    pub(crate) fn changed(&self, less: &Self, more: &Self) -> Option<Self> {
        let room = self.names.len() + more.names.len();
        let (mut names, mut times) = (Vec::with_capacity(room), Vec::with_capacity(room));
        let (mut at, mut gone, mut new) = (0, 0, 0);
        loop {
            let next = [self.names.get(at), less.names.get(gone), more.names.get(new)].into_iter().flatten().min().copied();
            let Some(name) = next else { break };
            let take = |of: &Self, at: &mut usize| {
                if of.names.get(*at) == Some(&name) {
                    *at += 1;
                    u64::from(of.times[*at - 1])
                } else {
                    0
                }
            };
            let had = take(self, &mut at) + take(more, &mut new);
            let left = had.checked_sub(take(less, &mut gone))?;
            if left > 0 {
                names.push(name);
                times.push(u32::try_from(left).unwrap_or(u32::MAX));
            }
        }
        Some(Self::new(names, times))
    }

    /// What leads from an earlier one to this.
    pub(crate) fn since(&self, before: &Self) -> Difference {
        let (mut added, mut removed) = (Vec::new(), Vec::new());
        let (mut i, mut j) = (0, 0);
        while i < before.names.len() || j < self.names.len() {
            match (before.names.get(i), self.names.get(j)) {
                (Some(a), Some(b)) if a == b => (i, j) = (i + 1, j + 1),
                (Some(a), b) if b.is_none_or(|b| a < b) => {
                    removed.push(*a);
                    i += 1;
                }
                (_, Some(b)) => {
                    added.push(*b);
                    j += 1;
                }
                (_, None) => break,
            }
        }
        Difference { added, removed }
    }

    /// Whether a point says that it needs exactly these.
    pub(crate) fn are_of(&self, point: &PointHead) -> bool {
        self.names.len() as u64 == point.needed && self.xor == point.needed_xor
    }

    fn new(names: Vec<ChunkName>, times: Vec<u32>) -> Self {
        let mut xor = [0; 32];
        names.iter().for_each(|name| xor.iter_mut().zip(name.as_bytes()).for_each(|(x, b)| *x ^= b));
        Self { names: Arc::new(names), times, xor }
    }

    /// Writes them: the names, and then how often each occurs.
    pub(super) fn write(&self, mut to: impl Write) -> io::Result<()> {
        self.names.iter().try_for_each(|name| to.write_all(name.as_bytes()))?;
        self.times.iter().try_for_each(|times| to.write_all(&times.to_le_bytes()))
    }

    /// What was written; none where it is not that.
    pub(super) fn read(bytes: &[u8]) -> Option<Self> {
        const EACH: usize = ChunkName::LEN + size_of::<u32>();
        let (names, times) = bytes.split_at_checked(bytes.len() / EACH * ChunkName::LEN)?;
        if !bytes.len().is_multiple_of(EACH) {
            return None;
        }
        let names: Vec<ChunkName> = names.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect();
        let times = times.chunks_exact(4).map(|n| u32::from_le_bytes(n.try_into().expect("exact"))).collect();
        names.is_sorted_by(|a, b| a < b).then(|| Self::new(names, times))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    fn names(of: &[u8]) -> Vec<ChunkName> {
        of.iter().map(|n| ChunkName([*n; 32])).collect()
    }

    proptest! {
        #[test]
        fn what_changed_leads_to_the_same_as_counting_everything_again(kept: Vec<u8>, gone: Vec<u8>, new: Vec<u8>) {
            let before = Needs::of(names(&[kept.clone(), gone.clone()].concat()));
            let after = Needs::of(names(&[kept, new.clone()].concat()));
            prop_assert_eq!(before.changed(&Needs::of(names(&gone)), &Needs::of(names(&new))), Some(after));
        }

        #[test]
        fn the_difference_leads_from_old_to_new(old: Vec<u8>, new: Vec<u8>) {
            let set = |of: &[u8]| of.iter().copied().collect::<BTreeSet<u8>>();
            let (before, after) = (set(&old), set(&new));
            let since = Needs::of(names(&new)).since(&Needs::of(names(&old)));
            prop_assert_eq!(since.added, names(&after.difference(&before).copied().collect::<Vec<_>>()));
            prop_assert_eq!(since.removed, names(&before.difference(&after).copied().collect::<Vec<_>>()));
        }

        #[test]
        fn what_is_written_is_read_the_same(all: Vec<u8>) {
            let needs = Needs::of(names(&all));
            let mut bytes = Vec::new();
            needs.write(&mut bytes).expect("written");
            prop_assert_eq!(Needs::read(&bytes), Some(needs));
        }
    }

    #[test]
    fn what_was_not_needed_cannot_go() {
        let needs = Needs::of(names(&[1, 1, 2]));
        let changed = |less: &[u8]| needs.changed(&Needs::of(names(less)), &Needs::default());
        assert_eq!(changed(&[3]), None);
        assert_eq!(changed(&[2, 2]), None);
        assert_eq!(*changed(&[1]).expect("one is left").names, names(&[1, 2]));
        assert_eq!(Needs::read(&[1; 35]), None);
    }
}
