//! What a point still needs of the one before follows from the needs files, whichever base the workstation chose.

use proptest::prelude::*;

use super::super::overlap::Overlap;
use super::expiring::{back_up_set_after, histories, needed_by};
use super::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn what_is_still_needed_is_what_both_sets_have((sets, going) in histories(), bases: Vec<prop::sample::Index>) {
        let store = Store::create(Arc::new(MemoryMedium::default()), &StoreFile::new(STORE, 0)).expect("made");
        for (i, set) in sets.iter().enumerate() {
            let points = store.points();
            let base = bases.get(i).filter(|_| !points.is_empty()).map_or(points.last(), |base| {
                // One in so many builds on nothing, as after a workstation forgot what it knew.
                points.get(base.index(points.len() + 1))
            });
            back_up_set_after(&store, set, base.copied()).expect("committed");
        }
        let going = going.iter().copied().filter(|sequence| *sequence < store.points().len() as u64).collect();
        store.expire(&going).expect("expired");
        store.compact(&Compaction::default(), &mut |_| true).expect("folded");
        let points = store.points();
        for pair in points.windows(2) {
            let [before, after] = [needed_by(&store, pair[0]), needed_by(&store, pair[1])];
            let expected = Overlap { before: before.len() as u64, still: before.intersection(&after).count() as u64 };
            prop_assert_eq!(store.overlap(pair[1]).expect("readable"), Some(expected));
        }
        prop_assert_eq!(store.overlap(points[0]).expect("readable"), None);
    }
}
