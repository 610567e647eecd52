//! What is known of a name beside its content.

use std::collections::HashMap;

use jetfrost_image::format::{Entry, EntryKind};
use jetfrost_platform::{Accounts, Metadata, System};

/// What tells whether a file is still the one that was read: if none of these changed, neither did the file. The
/// change time cannot be set by a program, so it also covers owner, permissions and extended attributes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Stamp {
    pub(super) device: u64,
    pub(super) inode: u64,
    pub(super) size: u64,
    pub(super) mtime: i128,
    pub(super) ctime: i128,
}

const SECOND: i128 = 1_000_000_000;

impl Stamp {
    pub(super) fn of(found: &Metadata) -> Self {
        Self {
            device: found.volume,
            inode: found.file,
            size: found.size,
            mtime: found.modified.as_nanos(),
            ctime: found.changed.as_nanos(),
        }
    }

    /// Whether the last change is long enough ago that another one would have another time: clocks of file systems
    /// move in steps. Most of them in less than a second; where times have no part of a second, in steps of up to two, and
    /// twice that is waited for.
    pub(super) fn is_settled(&self, now_ns: i128) -> bool {
        let is_coarse = self.ctime % SECOND == 0 && self.mtime % SECOND == 0;
        now_ns - self.ctime.max(self.mtime) > if is_coarse { 4 * SECOND } else { SECOND }
    }
}

/// Names of owners, looked up once each.
#[derive(Debug, Default)]
pub(super) struct Owners {
    users: HashMap<u32, Option<String>>,
    groups: HashMap<u32, Option<String>>,
}

impl Owners {
    fn user(&mut self, id: u32) -> Option<String> {
        self.users.entry(id).or_insert_with(|| System::user_name(id)).clone()
    }

    fn group(&mut self, id: u32) -> Option<String> {
        self.groups.entry(id).or_insert_with(|| System::group_name(id)).clone()
    }
}

/// An entry with everything but its content.
pub(super) fn entry(name: &[u8], kind: EntryKind, found: &Metadata, owners: &mut Owners) -> Entry {
    let mut entry = Entry::new(name.to_vec(), kind);
    entry.mode = found.mode;
    entry.uid = found.uid;
    entry.gid = found.gid;
    entry.owner = owners.user(found.uid);
    entry.group = owners.group(found.gid);
    entry.mtime = found.modified.seconds;
    entry.mtime_nanos = found.modified.nanos;
    entry.device = found.device;
    if kind != EntryKind::Directory && found.links > 1 {
        entry.links = Some((found.volume, found.file));
    }
    entry
}

/// Files with several names, as they were seen first.
#[derive(Debug, Default)]
pub(super) struct Links(HashMap<(u64, u64), i128>);

impl Links {
    /// Whether this is the file that was first seen under its device and number. A number is used again once its file is gone;
    /// the change time tells one from the other, and a file that changed in between is kept as one of its own.
    pub(super) fn is_same(&mut self, stamp: &Stamp) -> bool {
        *self.0.entry((stamp.device, stamp.inode)).or_insert(stamp.ctime) == stamp.ctime
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_that_is_used_again_is_another_file() {
        let mut links = Links::default();
        let stamp = |inode, ctime| Stamp { device: 1, inode, ctime, ..Stamp::default() };
        assert!(links.is_same(&stamp(7, 100)) && links.is_same(&stamp(7, 100)));
        assert!(!links.is_same(&stamp(7, 101)), "another file has this number now");
        assert!(links.is_same(&stamp(8, 101)));
    }

    #[test]
    fn a_stamp_is_settled_once_the_file_systems_clock_has_moved_on() {
        let at = |nanos: i128| Stamp { mtime: nanos, ctime: nanos, ..Stamp::default() };
        let fine = at(1_000 * SECOND + 5);
        assert!(!fine.is_settled(1_001 * SECOND) && fine.is_settled(1_001 * SECOND + 6));
        // Whole seconds: a clock that may move in steps of two.
        let coarse = at(1_000 * SECOND);
        assert!(!coarse.is_settled(1_004 * SECOND) && coarse.is_settled(1_004 * SECOND + 1));
        assert!(!Stamp { mtime: 2_000 * SECOND, ..fine }.is_settled(1_500 * SECOND), "changed later than now");
    }
}
