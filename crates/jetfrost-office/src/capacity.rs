//! Room: what can still be stored, and which limit says so.

/// A limit on what is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum LimitKind {
    /// On one image store.
    StoreLimit,
    /// On all image stores of an account.
    Quota,
    /// On all image stores of a destination.
    Capacity,
    /// What the destination's volume must keep free.
    Reserve,
}

/// A limit and how far it is used up, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Usage {
    /// Which limit.
    pub bound: LimitKind,
    /// What it allows.
    pub limit: u64,
    /// What is used of it.
    pub used: u64,
}

/// The most that is kept free for finishing and for letting go.
const MOST_MARGIN: u64 = 64 << 20;

impl Usage {
    /// What a volume with `free` bytes leaves beyond a reserve: it is used up to the reserve by whatever is on it.
    #[must_use]
    pub fn of_volume(size: u64, free: u64, reserve: u64) -> Self {
        Self { bound: LimitKind::Reserve, limit: size.saturating_sub(reserve), used: size.saturating_sub(free) }
    }

    /// Bytes that can still be stored.
    #[must_use]
    pub fn room(&self) -> u64 {
        self.limit.saturating_sub(self.used)
    }

    /// What may be used for content: a little less than the limit, so that a point that is nearly finished can be
    /// committed and old ones can be removed. The reserve is such a margin itself.
    #[must_use]
    pub fn limit_for_content(&self) -> u64 {
        let margin = if self.bound == LimitKind::Reserve { 0 } else { (self.limit / 20).min(MOST_MARGIN) };
        self.limit - margin
    }
}

/// The reserve that is suggested for a volume of `size` bytes: a twentieth, 50 GB at most.
#[must_use]
pub fn suggested_reserve(size: u64) -> u64 {
    (size / 20).min(50_000_000_000)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_volume_leaves_what_is_free_beyond_the_reserve() {
        assert_eq!(Usage::of_volume(1000, 300, 100).room(), 200);
        assert_eq!(Usage::of_volume(1000, 90, 100).room(), 0);
    }

    proptest! {
        #[test]
        fn filling_up_with_content_leaves_room_to_finish(limit: u64) {
            for bound in [LimitKind::StoreLimit, LimitKind::Quota, LimitKind::Capacity] {
                let full = Usage { bound, limit, used: Usage { bound, limit, used: 0 }.limit_for_content() };
                prop_assert!(full.room() >= limit / 20 || full.room() >= MOST_MARGIN);
            }
        }
    }
}
