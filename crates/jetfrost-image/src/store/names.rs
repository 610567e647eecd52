//! The names of a store's files (§ 2).

use crate::id::{SegmentHash, SlotId};
use crate::medium::STAGING;

pub(super) const STORE_FILE: &str = "store.cbor";
pub(super) const OWNER_FILE: &str = "owner.json";
pub(super) const SLOTS: &str = "slots";
pub(super) const SEGMENTS: &str = "segments";
pub(super) const NEEDS: &str = "needs";
pub(super) const POINTS: &str = "points";
pub(super) const INDEX: &str = "index";
pub(super) const DIRECTORIES: [&str; 6] = [SLOTS, SEGMENTS, NEEDS, POINTS, INDEX, STAGING];

pub(super) const POINT_SUFFIX: &str = ".point";
pub(super) const NEEDS_SUFFIX: &str = ".needs";
pub(super) const RUN_SUFFIX: &str = ".run";
const SEGMENT_SUFFIX: &str = ".seg";

pub(super) fn point(sequence: u64) -> String {
    format!("{sequence:010}{POINT_SUFFIX}")
}

pub(super) fn needs(sequence: u64) -> String {
    format!("{sequence:010}{NEEDS_SUFFIX}")
}

pub(super) fn slot(id: &SlotId) -> String {
    format!("{id}.slot")
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
