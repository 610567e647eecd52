//! Owners, permissions, attributes and times of what was restored.

use std::ffi::OsStr;
use std::fs::{self, File, Permissions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, chown, fchown, symlink};
use std::path::Path;

use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::stat::{Mode, SFlag, UtimensatFlags, futimens, makedev, mknod, utimensat};
use nix::sys::time::TimeSpec;
use rustix::fs::{CWD, RenameFlags, renameat_with};
use xattr::FileExt;

use super::directory::Node;
use crate::{FileKind, MetadataTarget, Special, Time};

/// Something restored. No way to it is looked up again: what has its name by now may be something else.
#[derive(Debug)]
pub enum Restored<'r> {
    /// An open file.
    File(&'r File),
    /// Anything else.
    Node(&'r Node),
}

impl MetadataTarget for Restored<'_> {
    fn set_owner(&self, uid: u32, gid: u32) -> io::Result<()> {
        match self {
            Self::File(file) => fchown(file, Some(uid), Some(gid)),
            Self::Node(node) => chown(node.path(), Some(uid), Some(gid)),
        }
    }

    fn set_attribute(&self, name: &[u8], value: &[u8]) -> io::Result<()> {
        let name = OsStr::from_bytes(name);
        let set = match self {
            Self::File(file) => file.set_xattr(name, value),
            Self::Node(node) => xattr::set_deref(node.path(), name, value),
        };
        // A volume that is full says the same of an attribute as a file system that has no room for any of this length.
        let unsupported = [Errno::ENOTSUP, Errno::E2BIG, Errno::ENOSPC, Errno::ERANGE].map(|errno| Some(errno as i32));
        set.map_err(|e| match e.raw_os_error() {
            number if unsupported.contains(&number) => io::Error::new(io::ErrorKind::Unsupported, e),
            _ => e,
        })
    }

    fn set_mode(&self, mode: u32) -> io::Result<()> {
        match self {
            Self::File(file) => file.set_permissions(Permissions::from_mode(mode)),
            Self::Node(node) => fs::set_permissions(node.path(), Permissions::from_mode(mode)),
        }
    }

    fn set_modified(&self, time: Time) -> io::Result<()> {
        let time = TimeSpec::new(time.seconds, time.nanos.into());
        let set = match self {
            Self::File(file) => futimens(file, &TimeSpec::UTIME_OMIT, &time),
            Self::Node(node) => utimensat(AT_FDCWD, &node.path(), &TimeSpec::UTIME_OMIT, &time, UtimensatFlags::FollowSymlink),
        };
        Ok(set?)
    }

    fn is_of_administrators(name: &[u8]) -> bool {
        name.starts_with(b"security.") || name.starts_with(b"trusted.")
    }

    fn gives_rights(name: &[u8]) -> bool {
        name == b"security.capability"
    }
}

/// Gives something another name, unless something has that already, in one step (`RENAME_NOREPLACE` of `renameat2(2)`).
///
/// # Errors
/// [`io::ErrorKind::AlreadyExists`]; what the system says.
pub fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => rename_new_in_steps(from, to),
        other => Ok(other?),
    }
}

/// Where the file system cannot do it in one.
fn rename_new_in_steps(from: &Path, to: &Path) -> io::Result<()> {
    if from.symlink_metadata()?.is_dir() {
        // A folder has one name only, and takes the place of nothing but an empty folder (POSIX.1-2017, rename).
        return if to.symlink_metadata().is_ok() { Err(io::ErrorKind::AlreadyExists.into()) } else { fs::rename(from, to) };
    }
    // A second name is not made where there is one either.
    fs::hard_link(from, to)?;
    fs::remove_file(from)
}

/// Makes what has no content; devices and pipes are for their owner alone.
///
/// # Errors
/// [`io::ErrorKind::InvalidInput`] for a file or a directory, or for a link or device that lacks its target or number; what the system
/// says.
pub fn make_special(path: &Path, special: Special<'_>) -> io::Result<()> {
    let node = |flag, device| Ok(mknod(path, flag, Mode::from_bits_truncate(0o600), device)?);
    let device = || {
        let (major, minor) = special.device.ok_or(io::ErrorKind::InvalidInput)?;
        Ok::<_, io::Error>(makedev(major.into(), minor.into()))
    };
    match special.kind {
        FileKind::Symlink => symlink(OsStr::from_bytes(special.target.ok_or(io::ErrorKind::InvalidInput)?), path),
        FileKind::Fifo => node(SFlag::S_IFIFO, 0),
        FileKind::CharDevice => node(SFlag::S_IFCHR, device()?),
        FileKind::BlockDevice => node(SFlag::S_IFBLK, device()?),
        FileKind::Socket => node(SFlag::S_IFSOCK, 0),
        FileKind::File | FileKind::Directory => Err(io::ErrorKind::InvalidInput.into()),
    }
}

/// Makes a symbolic link.
///
/// # Errors
/// What the system says.
pub fn make_link(target: &Path, path: &Path) -> io::Result<()> {
    symlink(target, path)
}
