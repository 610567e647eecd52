//! What is known of a name beside its content.

use std::collections::HashMap;

use jetfrost_image::format::{Entry, EntryKind};
use nix::sys::stat::{FileStat, SFlag, major, minor};
use nix::unistd::{Gid, Group, Uid, User};

/// What tells whether a file is still the one that was read: if none of these changed, neither did the file. The
/// change time cannot be set by a program, so it also covers owner, permissions and extended attributes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Stamp {
    pub(super) device: u64,
    pub(super) inode: u64,
    pub(super) size: u64,
    pub(super) mtime: i128,
    pub(super) ctime: i128,
}

const SECOND: i128 = 1_000_000_000;

impl Stamp {
    pub(super) fn of(stat: &FileStat) -> Self {
        let nanos = |seconds: i64, nanos: i64| i128::from(seconds) * SECOND + i128::from(nanos);
        Self {
            device: stat.st_dev,
            inode: stat.st_ino,
            size: stat.st_size.cast_unsigned(),
            mtime: nanos(stat.st_mtime, stat.st_mtime_nsec),
            ctime: nanos(stat.st_ctime, stat.st_ctime_nsec),
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
        let look_up = || User::from_uid(Uid::from_raw(id)).ok().flatten().map(|user| user.name);
        self.users.entry(id).or_insert_with(look_up).clone()
    }

    fn group(&mut self, id: u32) -> Option<String> {
        let look_up = || Group::from_gid(Gid::from_raw(id)).ok().flatten().map(|group| group.name);
        self.groups.entry(id).or_insert_with(look_up).clone()
    }
}

pub(super) fn kind(stat: &FileStat) -> Option<EntryKind> {
    let format = SFlag::from_bits_truncate(stat.st_mode & SFlag::S_IFMT.bits());
    [
        (SFlag::S_IFREG, EntryKind::File),
        (SFlag::S_IFDIR, EntryKind::Directory),
        (SFlag::S_IFLNK, EntryKind::Symlink),
        (SFlag::S_IFIFO, EntryKind::Fifo),
        (SFlag::S_IFCHR, EntryKind::CharDevice),
        (SFlag::S_IFBLK, EntryKind::BlockDevice),
        (SFlag::S_IFSOCK, EntryKind::Socket),
    ]
    .into_iter()
    .find_map(|(flag, kind)| (flag == format).then_some(kind))
}

/// An entry with everything but its content.
pub(super) fn entry(name: &[u8], kind: EntryKind, stat: &FileStat, owners: &mut Owners) -> Entry {
    let mut entry = Entry::new(name.to_vec(), kind);
    entry.mode = stat.st_mode & 0o7777;
    entry.uid = stat.st_uid;
    entry.gid = stat.st_gid;
    entry.owner = owners.user(stat.st_uid);
    entry.group = owners.group(stat.st_gid);
    entry.mtime = stat.st_mtime;
    entry.mtime_nanos = u32::try_from(stat.st_mtime_nsec).unwrap_or(0);
    if kind != EntryKind::Directory && stat.st_nlink > 1 {
        entry.links = Some((stat.st_dev, stat.st_ino));
    }
    if matches!(kind, EntryKind::CharDevice | EntryKind::BlockDevice) {
        let part = |n: u64| u32::try_from(n).unwrap_or(0);
        entry.device = Some((part(major(stat.st_rdev)), part(minor(stat.st_rdev))));
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
