//! What `stat(2)` says.

use std::io;
use std::path::Path;

use nix::sys::stat::{FileStat, SFlag, lstat, major, minor, stat};

use crate::{FileKind, Metadata, Paths, System, Time};

impl Paths for System {
    fn metadata_of(path: &Path) -> io::Result<Metadata> {
        Ok(Metadata::of(&lstat(path)?))
    }

    fn metadata_behind(path: &Path) -> io::Result<Metadata> {
        Ok(Metadata::of(&stat(path)?))
    }
}

impl Metadata {
    pub(super) fn of(stat: &FileStat) -> Self {
        let kind = kind(stat.st_mode);
        let part = |n: u64| u32::try_from(n).unwrap_or(0);
        let is_device = matches!(kind, Some(FileKind::CharDevice | FileKind::BlockDevice));
        Self {
            kind,
            size: stat.st_size.cast_unsigned(),
            allocated: stat.st_blocks.cast_unsigned().saturating_mul(512),
            mode: stat.st_mode & 0o7777,
            uid: stat.st_uid,
            gid: stat.st_gid,
            volume: stat.st_dev,
            file: stat.st_ino,
            links: stat.st_nlink,
            device: is_device.then(|| (part(major(stat.st_rdev)), part(minor(stat.st_rdev)))),
            modified: time(stat.st_mtime, stat.st_mtime_nsec),
            changed: time(stat.st_ctime, stat.st_ctime_nsec),
        }
    }
}

fn time(seconds: i64, nanos: i64) -> Time {
    Time { seconds, nanos: u32::try_from(nanos).unwrap_or(0) }
}

fn kind(mode: u32) -> Option<FileKind> {
    match SFlag::from_bits_truncate(mode & SFlag::S_IFMT.bits()) {
        SFlag::S_IFREG => Some(FileKind::File),
        SFlag::S_IFDIR => Some(FileKind::Directory),
        SFlag::S_IFLNK => Some(FileKind::Symlink),
        SFlag::S_IFIFO => Some(FileKind::Fifo),
        SFlag::S_IFCHR => Some(FileKind::CharDevice),
        SFlag::S_IFBLK => Some(FileKind::BlockDevice),
        SFlag::S_IFSOCK => Some(FileKind::Socket),
        _ => None,
    }
}
