//! Counting what there is while a first backup has begun, so that its progress has an end.

use std::fs::File;
use std::io::{Seek, SeekFrom};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use jetfrost_image::format::EntryKind;

use super::directory::{device_of, look, names, open_directory, open_root};
use super::facts::kind;
use crate::chosen::{Patterns, Selection};
use crate::progress::Meter;

const DEEPEST: usize = 500;

/// Counts files and their bytes; `None` when it was ended by `enough` or by who stops the run. What cannot be read is not
/// counted; the walk reports it.
pub(crate) fn count(selection: &Selection, patterns: &Patterns, meter: &Meter, enough: &AtomicBool) -> Option<(u64, u64)> {
    let mut count = Count { patterns, meter, enough, path: Vec::new(), depth: 0, files: 0, bytes: 0 };
    if let Ok(root) = open_root() {
        let device = if selection.whole { device_of(&root) } else { None };
        count.folder(&root, (!selection.whole).then_some(selection), device);
    }
    (!count.is_ended()).then_some((count.files, count.bytes))
}

/// Counts disks and their bytes, as [`count`] does with files.
pub(crate) fn count_disks<'p>(disks: impl Iterator<Item = &'p Path>) -> (u64, u64) {
    let length = |disk: &Path| File::open(disk).and_then(|mut disk| disk.seek(SeekFrom::End(0))).ok();
    disks.filter_map(length).fold((0, 0), |(disks, bytes), length| (disks + 1, bytes + length))
}

struct Count<'c> {
    patterns: &'c Patterns,
    meter: &'c Meter,
    enough: &'c AtomicBool,
    path: Vec<u8>,
    depth: usize,
    files: u64,
    bytes: u64,
}

impl Count<'_> {
    fn is_ended(&self) -> bool {
        self.enough.load(Ordering::Relaxed) || self.meter.is_stopped()
    }

    fn folder(&mut self, folder: &OwnedFd, selection: Option<&Selection>, device: Option<u64>) {
        let names = match selection {
            Some(selection) => selection.children.keys().cloned().collect(),
            None => names(folder).unwrap_or_default(),
        };
        for name in names {
            if self.is_ended() {
                return;
            }
            let below = selection.map(|s| &s.children[&name]);
            let length = self.path.len();
            self.path.push(b'/');
            self.path.extend(&name);
            if below.is_some() || !self.patterns.leave_out(&self.path, &name) {
                self.name(folder, &name, below.filter(|s| !s.whole), device);
            }
            self.path.truncate(length);
        }
    }

    fn name(&mut self, parent: &OwnedFd, name: &[u8], selection: Option<&Selection>, device: Option<u64>) {
        let Ok(stat) = look(parent, name) else { return };
        match kind(&stat) {
            Some(EntryKind::File) => {
                self.files += 1;
                self.bytes += stat.st_size.cast_unsigned();
            }
            Some(EntryKind::Directory) if device.is_none_or(|d| d == stat.st_dev) && self.depth < DEEPEST => {
                if let Ok(folder) = open_directory(parent, name) {
                    self.depth += 1;
                    self.folder(&folder, selection, selection.is_none().then_some(stat.st_dev));
                    self.depth -= 1;
                }
            }
            _ => {}
        }
    }
}
