//! Listing directories and looking at names, relative to open directories.

use std::ffi::CString;
use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};

use nix::dir::Dir;
use nix::errno::Errno;
use nix::fcntl::{AtFlags, OFlag, open, openat};
use nix::sys::stat::{FileStat, Mode, fstat, fstatat};

/// Opens the root directory.
pub(super) fn open_root() -> Result<OwnedFd, Errno> {
    open("/", OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC, Mode::empty())
}

/// The volume that an open directory is on.
pub(super) fn device_of(directory: &OwnedFd) -> Option<u64> {
    fstat(directory).ok().map(|stat| stat.st_dev)
}

/// Opens a directory by name; a symbolic link is not followed.
pub(super) fn open_directory(parent: &OwnedFd, name: &[u8]) -> Result<OwnedFd, Errno> {
    let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC;
    openat(parent.as_fd(), c_name(name)?.as_c_str(), flags, Mode::empty())
}

/// Opens a file for reading, without touching its access time where that is allowed.
pub(super) fn open_file(parent: &OwnedFd, name: &[u8]) -> Result<File, Errno> {
    let flags = OFlag::O_RDONLY | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC | OFlag::O_NONBLOCK;
    let name = c_name(name)?;
    let opened = match openat(parent.as_fd(), name.as_c_str(), flags | OFlag::O_NOATIME, Mode::empty()) {
        Err(Errno::EPERM) => openat(parent.as_fd(), name.as_c_str(), flags, Mode::empty()),
        other => other,
    };
    opened.map(File::from)
}

/// What a name is, without following a symbolic link.
pub(super) fn look(parent: &OwnedFd, name: &[u8]) -> Result<FileStat, Errno> {
    fstatat(parent.as_fd(), c_name(name)?.as_c_str(), AtFlags::AT_SYMLINK_NOFOLLOW)
}

/// Opens a disk for reading; a symbolic link is followed, for such are the lasting names of devices.
pub(super) fn open_disk(parent: &OwnedFd, name: &[u8]) -> Result<File, Errno> {
    openat(parent.as_fd(), c_name(name)?.as_c_str(), OFlag::O_RDONLY | OFlag::O_CLOEXEC, Mode::empty()).map(File::from)
}

/// What a name is or leads to.
pub(super) fn look_through(parent: &OwnedFd, name: &[u8]) -> Result<FileStat, Errno> {
    fstatat(parent.as_fd(), c_name(name)?.as_c_str(), AtFlags::empty())
}

/// Where a symbolic link points.
pub(super) fn link_target(parent: &OwnedFd, name: &[u8]) -> Result<Vec<u8>, Errno> {
    use std::os::unix::ffi::OsStringExt;
    nix::fcntl::readlinkat(parent.as_fd(), c_name(name)?.as_c_str()).map(OsStringExt::into_vec)
}

/// The names in a directory, ascending by their bytes.
pub(super) fn names(directory: &OwnedFd) -> Result<Vec<Vec<u8>>, Errno> {
    let mut names = Vec::new();
    let mut listing = Dir::from_fd(directory.try_clone().map_err(|_| Errno::EMFILE)?)?;
    for entry in listing.iter() {
        let entry = entry?;
        let name = entry.file_name().to_bytes();
        if name != b"." && name != b".." {
            names.push(name.to_vec());
        }
    }
    names.sort_unstable();
    Ok(names)
}

fn c_name(name: &[u8]) -> Result<CString, Errno> {
    CString::new(name).map_err(|_| Errno::EINVAL)
}
