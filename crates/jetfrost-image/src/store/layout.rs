//! The names of a store's files (§ 2).

use crate::id::{SegmentHash, SlotId};
use crate::medium::STAGING;

pub(super) const STORE_FILE: &str = "store.cbor";
pub(super) const OWNER_FILE: &str = "owner.json";
pub(super) const SLOTS: &str = "slots";
pub(super) const SEGMENTS: &str = "segments";
pub(super) const NEEDS: &str = "needs";
pub(super) const POINTS: &str = "points";
/// What the service says of the points that it committed.
pub(super) const RECEIPTS: &str = "receipts";
pub(super) const INDEX: &str = "index";
/// Segments that were found damaged, as they were.
pub(super) const DAMAGED: &str = "damaged";
pub(super) const DIRECTORIES: [&str; 8] = [SLOTS, SEGMENTS, NEEDS, POINTS, RECEIPTS, INDEX, DAMAGED, STAGING];

pub(super) const POINT_SUFFIX: &str = ".point";
pub(super) const NEEDS_SUFFIX: &str = ".needs";
pub(super) const RECEIPT_SUFFIX: &str = ".receipt";
pub(super) const RUN_SUFFIX: &str = ".run";
const SEGMENT_SUFFIX: &str = ".seg";

pub(super) fn point(sequence: u64) -> String {
    format!("{sequence:010}{POINT_SUFFIX}")
}

pub(super) fn receipt(sequence: u64) -> String {
    format!("{sequence:010}{RECEIPT_SUFFIX}")
}

pub(super) fn needs(sequence: u64) -> String {
    format!("{sequence:010}{NEEDS_SUFFIX}")
}

pub(super) const SLOT_SUFFIX: &str = ".slot";

pub(super) fn slot(id: &SlotId) -> String {
    format!("{id}{SLOT_SUFFIX}")
}

/// Whether a file of that name has its place in a directory.
pub(super) fn belongs(directory: &str, file: &str) -> bool {
    let numbered =
        |suffix| file.strip_suffix(suffix).is_some_and(|n: &str| n.len() == 10 && n.bytes().all(|b| b.is_ascii_digit()));
    match directory {
        POINTS => numbered(POINT_SUFFIX),
        NEEDS => numbered(NEEDS_SUFFIX),
        RECEIPTS => numbered(RECEIPT_SUFFIX),
        SLOTS => file.strip_suffix(SLOT_SUFFIX).is_some_and(|id| id.parse::<SlotId>().is_ok()),
        INDEX => file.ends_with(RUN_SUFFIX),
        _ => false,
    }
}

pub(super) fn segment_directory(hash: &SegmentHash) -> String {
    format!("{SEGMENTS}/{:02x}", hash.0[0])
}

pub(super) fn segment_file(hash: &SegmentHash) -> String {
    format!("{hash}{SEGMENT_SUFFIX}")
}

pub(super) fn segment(hash: &SegmentHash) -> String {
    format!("{}/{}", segment_directory(hash), segment_file(hash))
}

/// The segment that a file name stands for.
pub(super) fn parse_segment(file: &str) -> Option<SegmentHash> {
    file.strip_suffix(SEGMENT_SUFFIX)?.parse().ok()
}
