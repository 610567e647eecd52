//! The chunks that a point needs, and how often each occurs in it.

use std::collections::HashSet;
use std::io::{self, Write};
use std::sync::Arc;

use jetfrost_image::ChunkName;
use jetfrost_image::format::PointHead;

/// Bytes of how often a name occurs.
const TIMES: usize = size_of::<u32>();

/// Chunks that a point needs, as they are written: their names, ascending, each once, and then how often each occurs. There may be
/// millions, so what was read is used as it is.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(crate) struct Needs {
    bytes: Arc<Vec<u8>>,
    /// All names, one upon the other.
    pub(crate) xor: [u8; ChunkName::LEN],
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
        let mut needs = InOrder::with_room_for(all.len());
        for run in all.chunk_by(|one, other| one == other) {
            needs.push(run[0].0, u32::try_from(run.len()).unwrap_or(u32::MAX));
        }
        needs.done()
    }

    /// With some names less and some more; none when that does not come out even, so that one of the two is wrong.
    pub(crate) fn changed(&self, less: &Self, more: &Self) -> Option<Self> {
        let (mut at, mut gone, mut new) = (0, 0, 0);
        let mut changed = InOrder::with_room_for(self.len() + more.len());
        loop {
            let next = [self.names().get(at), less.names().get(gone), more.names().get(new)].into_iter().flatten().min().copied();
            let Some(name) = next else { break };
            let take = |of: &Self, at: &mut usize| {
                if of.names().get(*at) == Some(&name) {
                    *at += 1;
                    u64::from(of.times(*at - 1))
                } else {
                    0
                }
            };
            let had = take(self, &mut at) + take(more, &mut new);
            let left = had.checked_sub(take(less, &mut gone))?;
            if left > 0 {
                changed.push(name, u32::try_from(left).unwrap_or(u32::MAX));
            }
        }
        Some(changed.done())
    }

    /// What leads from an earlier one to this.
    pub(crate) fn since(&self, before: &Self) -> Difference {
        let (mut added, mut removed) = (Vec::new(), Vec::new());
        let (mut i, mut j) = (0, 0);
        loop {
            match (before.names().get(i), self.names().get(j)) {
                (None, None) => return Difference { added, removed },
                (Some(a), Some(b)) if a == b => (i, j) = (i + 1, j + 1),
                (Some(a), b) if b.is_none_or(|b| a < b) => {
                    removed.push(ChunkName(*a));
                    i += 1;
                }
                (_, b) => {
                    added.extend(b.copied().map(ChunkName));
                    j += 1;
                }
            }
        }
    }

    /// Without some names.
    pub(crate) fn without(&self, names: &HashSet<ChunkName>) -> Self {
        let mut left = InOrder::with_room_for(self.len());
        for (at, name) in self.names().iter().enumerate().filter(|(_, name)| !names.contains(&ChunkName(**name))) {
            left.push(*name, self.times(at));
        }
        left.done()
    }

    /// Whether a point says that it needs exactly these.
    pub(crate) fn are_of(&self, point: &PointHead) -> bool {
        self.len() as u64 == point.needed && self.xor == point.needed_xor
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.bytes.len() / (ChunkName::LEN + TIMES)
    }

    /// Whether this is one of them.
    pub(crate) fn contains(&self, name: ChunkName) -> bool {
        self.names().binary_search(&name.0).is_ok()
    }

    fn names(&self) -> &[[u8; ChunkName::LEN]] {
        self.bytes[..self.len() * ChunkName::LEN].as_chunks().0
    }

    fn times(&self, at: usize) -> u32 {
        u32::from_le_bytes(self.bytes[self.len() * ChunkName::LEN..].as_chunks().0[at])
    }

    fn summed(bytes: Vec<u8>) -> Self {
        let mut needs = Self { bytes: Arc::new(bytes), xor: [0; ChunkName::LEN] };
        let mut xor = needs.xor;
        needs.names().iter().for_each(|name| xor.iter_mut().zip(name).for_each(|(x, b)| *x ^= b));
        needs.xor = xor;
        needs
    }

    /// Writes them.
    pub(super) fn write(&self, mut to: impl Write) -> io::Result<()> {
        to.write_all(&self.bytes)
    }

    /// What was written, which the caller knows by its hash; none where it cannot be that.
    pub(super) fn read(bytes: Vec<u8>) -> Option<Self> {
        bytes.len().is_multiple_of(ChunkName::LEN + TIMES).then(|| Self::summed(bytes))
    }
}

/// Needs in the making: names come in their order.
struct InOrder {
    names: Vec<u8>,
    times: Vec<u8>,
}

impl InOrder {
    fn with_room_for(number: usize) -> Self {
        Self { names: Vec::with_capacity(number * (ChunkName::LEN + TIMES)), times: Vec::with_capacity(number * TIMES) }
    }

    fn push(&mut self, name: [u8; ChunkName::LEN], times: u32) {
        self.names.extend(name);
        self.times.extend(times.to_le_bytes());
    }

    fn done(self) -> Needs {
        let Self { names: mut bytes, times } = self;
        bytes.extend(times);
        Needs::summed(bytes)
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
            prop_assert_eq!(Needs::read(bytes), Some(needs));
        }
    }

    #[test]
    fn what_was_not_needed_cannot_go() {
        let needs = Needs::of(names(&[1, 1, 2]));
        let changed = |less: &[u8]| needs.changed(&Needs::of(names(less)), &Needs::default());
        assert_eq!(changed(&[3]), None);
        assert_eq!(changed(&[2, 2]), None);
        assert_eq!(changed(&[1]), Some(Needs::of(names(&[1, 2]))));
        assert_eq!(Needs::read(vec![1; 35]), None);
        let without = needs.without(&names(&[1]).into_iter().collect());
        assert!(without == Needs::of(names(&[2])) && without.contains(names(&[2])[0]) && !without.contains(names(&[1])[0]));
    }
}
