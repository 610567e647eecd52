//! What is known of a name beside its content.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::Path;

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
    /// move in steps.
    pub(super) fn is_settled(&self, now_ns: i128) -> bool {
        now_ns - self.ctime > SECOND
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

/// The extended attributes of a path, ascending by name; a symbolic link is not followed.
pub(super) fn xattrs(path: &[u8]) -> std::io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
    let path = Path::new(OsStr::from_bytes(path));
    let names = match xattr::list(path) {
        Err(e) if e.raw_os_error() == Some(nix::errno::Errno::ENOTSUP as i32) => return Ok(Vec::new()),
        other => other?,
    };
    let mut found = Vec::new();
    for name in names {
        // One that was removed in between is not there.
        if let Some(value) = xattr::get(path, &name)? {
            found.push((name.into_vec(), value));
        }
    }
    found.sort_unstable();
    Ok(found)
}
