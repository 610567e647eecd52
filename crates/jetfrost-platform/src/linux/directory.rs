//! Open directories, by the `*at` calls.

use std::ffi::{CString, OsStr};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;

use nix::dir::Dir;
use nix::errno::Errno;
use nix::fcntl::{AtFlags, OFlag, open, openat, readlinkat};
use nix::sys::stat::{Mode, fstat, fstatat};
use xattr::FileExt;

use crate::{ExtendedAttributes, Metadata, OpenDirectory};

/// An open directory.
#[derive(Debug)]
pub struct Directory(OwnedFd);

/// Something in a file system that is held, whatever becomes of its name (`O_PATH` of `open(2)`).
#[derive(Debug)]
pub struct Node(OwnedFd);

impl Node {
    /// What it is.
    ///
    /// # Errors
    /// What the system says.
    pub fn metadata(&self) -> io::Result<Metadata> {
        Ok(Metadata::of(&fstat(&self.0)?))
    }

    /// A path that leads to itself, also if it is a link.
    pub(super) fn path(&self) -> PathBuf {
        path_of_open(&self.0)
    }
}

/// The way to it in the kernel's list of what this process has open.
fn path_of_open(open: &OwnedFd) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}", open.as_raw_fd()))
}

/// A name in an open directory.
#[derive(Debug)]
pub struct NamedIn<'d> {
    directory: &'d Directory,
    name: &'d [u8],
}

impl Directory {
    fn open(&self, name: &[u8], flags: OFlag) -> Result<OwnedFd, Errno> {
        openat(self.0.as_fd(), c_name(name)?.as_c_str(), flags | OFlag::O_RDONLY | OFlag::O_CLOEXEC, Mode::empty())
    }

    /// A path to it that is good while it is open, whatever becomes of its name: for calls that take nothing else.
    pub(super) fn path(&self) -> PathBuf {
        path_of_open(&self.0)
    }

    fn look(&self, name: &[u8], flags: AtFlags) -> io::Result<Metadata> {
        Ok(Metadata::of(&fstatat(self.0.as_fd(), c_name(name)?.as_c_str(), flags)?))
    }
}

impl OpenDirectory for Directory {
    type Named<'d> = NamedIn<'d>;

    fn root() -> io::Result<Self> {
        Ok(Self(open("/", OFlag::O_PATH | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC, Mode::empty())?))
    }

    fn metadata(&self) -> io::Result<Metadata> {
        Ok(Metadata::of(&fstat(&self.0)?))
    }

    fn names(&self) -> io::Result<Vec<Vec<u8>>> {
        let mut names = Vec::new();
        // One that is only held cannot be listed itself, nor can two list one that is open.
        let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
        let mut listing = Dir::openat(self.0.as_fd(), c".", flags, Mode::empty())?;
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

    fn metadata_of(&self, name: &[u8]) -> io::Result<Metadata> {
        self.look(name, AtFlags::AT_SYMLINK_NOFOLLOW)
    }

    fn metadata_behind(&self, name: &[u8]) -> io::Result<Metadata> {
        self.look(name, AtFlags::empty())
    }

    fn open_directory(&self, name: &[u8]) -> io::Result<Self> {
        Ok(Self(self.open(name, OFlag::O_DIRECTORY | OFlag::O_NOFOLLOW)?))
    }

    fn hold_directory(&self, name: &[u8]) -> io::Result<Self> {
        Ok(Self(self.open(name, OFlag::O_PATH | OFlag::O_DIRECTORY | OFlag::O_NOFOLLOW)?))
    }

    fn open_file(&self, name: &[u8]) -> io::Result<File> {
        let flags = OFlag::O_NOFOLLOW | OFlag::O_NONBLOCK;
        let opened = match self.open(name, flags | OFlag::O_NOATIME) {
            Err(Errno::EPERM) => self.open(name, flags),
            other => other,
        };
        Ok(opened?.into())
    }

    fn open_disk(&self, name: &[u8]) -> io::Result<File> {
        Ok(self.open(name, OFlag::empty())?.into())
    }

    fn link_target(&self, name: &[u8]) -> io::Result<Vec<u8>> {
        Ok(readlinkat(self.0.as_fd(), c_name(name)?.as_c_str()).map(OsStringExt::into_vec)?)
    }

    fn node(&self, name: &[u8]) -> io::Result<Node> {
        Ok(Node(self.open(name, OFlag::O_PATH | OFlag::O_NOFOLLOW)?))
    }

    fn path_to(&self, name: &[u8]) -> io::Result<PathBuf> {
        let name = c_name(name)?;
        Ok(self.path().join(OsStr::from_bytes(name.to_bytes())))
    }

    fn sync_file_system(&self) -> io::Result<()> {
        // One that is only held cannot be synced.
        Ok(rustix::fs::syncfs(self.open(b".", OFlag::O_DIRECTORY)?)?)
    }

    fn named<'d>(&'d self, name: &'d [u8]) -> NamedIn<'d> {
        NamedIn { directory: self, name }
    }
}

fn c_name(name: &[u8]) -> Result<CString, Errno> {
    if name.contains(&b'/') { Err(Errno::EINVAL) } else { CString::new(name).map_err(|_| Errno::EINVAL) }
}

impl NamedIn<'_> {
    /// The kernel has no calls for attributes relative to a directory before version 6.13; its list of open files leads there.
    fn path(&self) -> PathBuf {
        self.directory.path().join(OsStr::from_bytes(self.name))
    }
}

impl ExtendedAttributes for NamedIn<'_> {
    fn attribute_names(&self) -> io::Result<Vec<Vec<u8>>> {
        listed(xattr::list(self.path()))
    }

    fn attribute(&self, name: &[u8]) -> io::Result<Option<Vec<u8>>> {
        xattr::get(self.path(), OsStr::from_bytes(name))
    }
}

impl ExtendedAttributes for File {
    fn attribute_names(&self) -> io::Result<Vec<Vec<u8>>> {
        listed(self.list_xattr())
    }

    fn attribute(&self, name: &[u8]) -> io::Result<Option<Vec<u8>>> {
        self.get_xattr(OsStr::from_bytes(name))
    }
}

fn listed(names: io::Result<xattr::XAttrs>) -> io::Result<Vec<Vec<u8>>> {
    match names {
        Err(e) if e.raw_os_error() == Some(Errno::ENOTSUP as i32) => Ok(Vec::new()),
        names => Ok(names?.map(OsStringExt::into_vec).collect()),
    }
}
