//! Which points look like an incident: mass encryption, mass deletion, or a past that was replaced.
//!
//! Two witnesses are heard. The workstation tells in counts how its files changed; a program that took the workstation over may lie there. What
//! the store keeps for the point before and what of that the new one still needs is the service's own knowledge, and nobody can lie about it.

use jetfrost_types::{Changes, PointKind, Suspicion};

/// So many scrambled files are suspect whatever else changed.
const SCRAMBLED_MANY: u64 = 50;
/// So few scrambled ones are, where they are a good part of what changed.
const SCRAMBLED_FEW: u64 = 15;
/// One in so many of the files that changed or are gone.
const SCRAMBLED_PART: u64 = 4;
/// Files that changed together with the ending of their name are suspect from here on, if most that changed did.
const RELABELLED: u64 = 50;

/// A deletion of fewer files is a person's.
const DELETED_FEWEST: u64 = 20;

/// Of fewer chunks nothing is concluded.
const FEWEST_CHUNKS: u64 = 500;
/// One in so many may still be needed of a past that was replaced.
const STILL_NEEDED_PART: u64 = 5;

/// What the store kept for the point before of the same kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StillNeeded {
    /// Chunks that the point before needed.
    pub before: u64,
    /// Those that the new one needs, too.
    pub still: u64,
}

/// What a point looks like; none where it looks like work. `needed` is of the point before, and `of_good`, asked only where that says that the past was
/// replaced, of the latest one against which nothing is known: who restores from that one replaces what an incident left.
#[must_use]
pub fn suspicion(
    kind: PointKind,
    changes: Option<&Changes>,
    needed: Option<StillNeeded>,
    of_good: impl FnOnce() -> Option<StillNeeded>,
) -> Option<Suspicion> {
    let by_changes = changes.filter(|_| kind == PointKind::Files).and_then(of_changes);
    let is_past_replaced =
        || needed.is_some_and(|needed| is_replaced(&needed)) && of_good().is_none_or(|good| is_replaced(&good));
    by_changes.or_else(|| is_past_replaced().then_some(Suspicion::Replaced))
}

fn of_changes(changes: &Changes) -> Option<Suspicion> {
    let touched = changes.changed.saturating_add(changes.gone);
    let is_part = |n: u64, part: u64| n.saturating_mul(part) >= touched;
    let is_scrambled = changes.scrambled >= SCRAMBLED_MANY
        || (changes.scrambled >= SCRAMBLED_FEW && is_part(changes.scrambled, SCRAMBLED_PART))
        || (changes.relabelled >= RELABELLED && is_part(changes.relabelled, 2));
    if is_scrambled {
        return Some(Suspicion::Scrambled);
    }
    (!changes.selection_changed && is_mass_deletion(changes)).then_some(Suspicion::Deleted)
}

/// Half of all files; or half of all bytes with a quarter of the files, so that one big file that went is none.
fn is_mass_deletion(changes: &Changes) -> bool {
    let is_half = |gone: u64, before: u64| gone.saturating_mul(2) >= before;
    let is_quarter = |gone: u64, before: u64| gone.saturating_mul(4) >= before;
    changes.old_gone >= DELETED_FEWEST
        && (is_half(changes.old_gone, changes.files_before)
            || (is_half(changes.old_gone_bytes, changes.bytes_before) && is_quarter(changes.old_gone, changes.files_before)))
}

fn is_replaced(needed: &StillNeeded) -> bool {
    needed.before >= FEWEST_CHUNKS && needed.still.saturating_mul(STILL_NEEDED_PART) <= needed.before
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// An office workstation of 40,000 files.
    fn quiet() -> Changes {
        Changes { files_before: 40_000, bytes_before: 20_000_000_000, ..Changes::default() }
    }

    fn of(changes: Changes) -> Option<Suspicion> {
        suspicion(PointKind::Files, Some(&changes), None, || None)
    }

    #[test]
    fn a_few_encrypted_documents_are_suspect_on_a_quiet_day_and_fifty_on_any() {
        assert_eq!(of(Changes { changed: 40, scrambled: 14, ..quiet() }), None, "a vault and some keys");
        assert_eq!(of(Changes { changed: 40, scrambled: 15, ..quiet() }), Some(Suspicion::Scrambled));
        assert_eq!(of(Changes { changed: 9_000, scrambled: 49, ..quiet() }), None, "a build with some caches");
        assert_eq!(of(Changes { changed: 9_000, scrambled: 50, ..quiet() }), Some(Suspicion::Scrambled));
    }

    #[test]
    fn files_that_all_change_with_the_ending_of_their_name_are_suspect_though_nobody_knows_what_they_were() {
        assert_eq!(of(Changes { changed: 90, relabelled: 50, ..quiet() }), Some(Suspicion::Scrambled));
        assert_eq!(of(Changes { changed: 200, relabelled: 50, ..quiet() }), None);
    }

    #[test]
    fn half_of_what_had_been_there_for_long_is_a_mass_deletion_and_clearing_up_is_none() {
        let gone = |old_gone, old_gone_bytes| Changes { gone: 30_000, old_gone, old_gone_bytes, ..quiet() };
        assert_eq!(of(gone(20_000, 0)), Some(Suspicion::Deleted));
        assert_eq!(of(gone(19_999, 9_000_000_000)), None);
        assert_eq!(of(gone(10_000, 10_000_000_000)), Some(Suspicion::Deleted));
        assert_eq!(of(gone(25, 19_000_000_000)), None, "a project that was archived");
        assert_eq!(of(gone(0, 0)), None, "what a build leaves is young");
        assert_eq!(of(Changes { selection_changed: true, ..gone(39_000, 0) }), None, "it is only left out");
    }

    #[test]
    fn a_past_that_the_new_point_shares_next_to_nothing_with_is_suspect_whatever_the_workstation_says() {
        let needed = |before, still| Some(StillNeeded { before, still });
        let judged = |kind, changes: Option<&Changes>, before| suspicion(kind, changes, before, || None);
        assert_eq!(judged(PointKind::Files, Some(&quiet()), needed(10_000, 2_000)), Some(Suspicion::Replaced));
        assert_eq!(judged(PointKind::Disk, None, needed(10_000, 2_000)), Some(Suspicion::Replaced));
        assert_eq!(judged(PointKind::Files, None, needed(10_000, 2_001)), None);
        assert_eq!(judged(PointKind::Files, None, needed(499, 0)), None);
        assert_eq!(judged(PointKind::Files, None, None), None);
    }

    #[test]
    fn who_restores_from_the_last_good_point_replaces_what_an_incident_left_and_nothing_else() {
        let low = Some(StillNeeded { before: 10_000, still: 0 });
        let good = |still| suspicion(PointKind::Files, None, low, || Some(StillNeeded { before: 10_000, still }));
        assert_eq!((good(9_000), good(100)), (None, Some(Suspicion::Replaced)));
    }

    proptest! {
        #[test]
        fn no_counts_are_too_large_to_be_judged(numbers: [u64; 14], selection_changed: bool, before: u64, still: u64) {
            let [files_before, bytes_before, changed, gone, scrambled, relabelled, old_gone, old_gone_bytes, ..] = numbers;
            let changes = Changes { files_before, bytes_before, changed, gone, scrambled, relabelled, old_gone, old_gone_bytes, selection_changed, ..Changes::default() };
            let _ = suspicion(PointKind::Files, Some(&changes), Some(StillNeeded { before, still }), || None);
        }

        #[test]
        fn more_scrambled_files_are_never_less_suspect(changed in 0_u64..10_000, scrambled in 0_u64..10_000, more in 0_u64..10_000) {
            let judged = |n| of(Changes { changed: changed + n, scrambled: n, ..quiet() });
            if judged(scrambled) == Some(Suspicion::Scrambled) {
                prop_assert_eq!(judged(scrambled + more), Some(Suspicion::Scrambled));
            }
        }
    }
}
