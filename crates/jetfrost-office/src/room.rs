//! Room: what can still be stored.

/// What bounds a destination, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bounds {
    /// What it may hold; `None` for no limit.
    pub capacity: Option<u64>,
    /// What its volume must keep free.
    pub reserve: u64,
    /// What its image stores occupy.
    pub used: u64,
    /// What is free on its volume.
    pub free: u64,
}

/// Which bound is the tightest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tightest {
    /// The destination's capacity.
    Capacity,
    /// The volume, less the reserve.
    Volume,
}

impl Bounds {
    /// Bytes that can still be stored, and what bounds them.
    #[must_use]
    pub fn room(&self) -> (u64, Tightest) {
        let on_volume = self.free.saturating_sub(self.reserve);
        match self.capacity.map(|capacity| capacity.saturating_sub(self.used)) {
            Some(left) if left <= on_volume => (left, Tightest::Capacity),
            _ => (on_volume, Tightest::Volume),
        }
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
    fn the_tightest_bound_decides() {
        let bounds = Bounds { capacity: Some(100), reserve: 10, used: 60, free: 80 };
        assert_eq!(bounds.room(), (40, Tightest::Capacity));
        assert_eq!(Bounds { free: 45, ..bounds }.room(), (35, Tightest::Volume));
        assert_eq!(Bounds { capacity: None, ..bounds }.room(), (70, Tightest::Volume));
        assert_eq!(Bounds { used: 101, ..bounds }.room(), (0, Tightest::Capacity));
        assert_eq!(Bounds { free: 9, ..bounds }.room(), (0, Tightest::Volume));
    }

    proptest! {
        #[test]
        fn storing_what_there_is_room_for_breaks_no_bound(capacity: Option<u64>, reserve: u64, used: u64, free: u64) {
            let (room, _) = Bounds { capacity, reserve, used, free }.room();
            if room > 0 {
                prop_assert!(free - room >= reserve);
                prop_assert!(capacity.is_none_or(|capacity| used + room <= capacity));
            }
        }
    }
}
