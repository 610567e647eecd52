//! Counting what there is while a first backup has begun, so that its progress has an end.

use std::fs::File;
use std::io::{Seek, SeekFrom};
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use jetfrost_image::format::EntryKind;

use super::dir_reader::{DirEntry, View};
use crate::progress::Meter;

/// Counts files and their bytes; `None` when it was ended by `enough` or by who stops the run. What cannot be read is not
/// counted; the walk reports it.
pub(crate) fn count(view: View<'_>, meter: &Meter, enough: &AtomicBool) -> Option<(u64, u64)> {
    let (mut files, mut bytes) = (0, 0);
    let mut is_whole = true;
    let _ = view.look(&mut |entry_seen| {
        if let DirEntry::Leaf(seen, EntryKind::File) = entry_seen {
            files += 1;
            bytes += seen.metadata.size;
        }
        is_whole = !enough.load(Ordering::Relaxed) && !meter.is_stopped();
        if is_whole { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    is_whole.then_some((files, bytes))
}

/// Counts disks and their bytes, as [`count`] does with files.
pub(crate) fn count_disks<'p>(disks: impl Iterator<Item = &'p Path>) -> (u64, u64) {
    let length = |disk: &Path| File::open(disk).and_then(|mut disk| disk.seek(SeekFrom::End(0))).ok();
    disks.filter_map(length).fold((0, 0), |(disks, bytes), length| (disks + 1, bytes + length))
}
