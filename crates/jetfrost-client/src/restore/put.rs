//! Putting things in place: special files, owners, permissions, attributes, times.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::{self, File, Permissions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, fchown, lchown};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use jetfrost_image::format::{Entry, EntryKind};
use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::stat::{Mode, SFlag, UtimensatFlags, futimens, makedev, mknod, utimensat};
use nix::sys::time::TimeSpec;
use nix::unistd::{Gid, Group, Uid, User};
use xattr::FileExt;

use super::{LeftOut, Trouble, Troubles};

/// Set user id and set group id (POSIX.1-2017, sys/stat.h).
const RUNS_AS: u32 = 0o6000;
/// Where Linux keeps the capabilities of a file.
const CAPABILITY: &[u8] = b"security.capability";

/// Something restored that has its content and nothing else yet. A file that is still open needs no way to it looked up again.
pub(super) enum Bare<'b> {
    File(&'b File),
    Path(&'b Path),
}

impl Bare<'_> {
    fn set_owner(&self, uid: u32, gid: u32) -> io::Result<()> {
        match self {
            Self::File(file) => fchown(file, Some(uid), Some(gid)),
            Self::Path(path) => lchown(path, Some(uid), Some(gid)),
        }
    }

    fn set_xattr(&self, name: &OsStr, value: &[u8]) -> io::Result<()> {
        match self {
            Self::File(file) => file.set_xattr(name, value),
            Self::Path(path) => xattr::set(path, name, value),
        }
    }

    fn set_mode(&self, mode: u32) -> io::Result<()> {
        match self {
            Self::File(file) => file.set_permissions(Permissions::from_mode(mode)),
            Self::Path(path) => fs::set_permissions(path, Permissions::from_mode(mode)),
        }
    }

    fn set_time(&self, time: &TimeSpec) -> io::Result<()> {
        let set = match self {
            Self::File(file) => futimens(file, &TimeSpec::UTIME_OMIT, time),
            Self::Path(path) => utimensat(AT_FDCWD, *path, &TimeSpec::UTIME_OMIT, time, UtimensatFlags::NoFollowSymlink),
        };
        set.map_err(io::Error::from)
    }
}

/// Gives restored files everything but their content.
pub(super) struct MetadataApplier {
    is_root: bool,
    owners_left: AtomicBool,
    leaves_out_rights: bool,
    rights_left_out: AtomicU64,
    users: Mutex<HashMap<String, Option<u32>>>,
    groups: Mutex<HashMap<String, Option<u32>>>,
    troubles: Troubles,
}

impl MetadataApplier {
    pub(super) fn new(troubles: Troubles, leaves_out_rights: bool) -> Self {
        Self {
            is_root: nix::unistd::geteuid().is_root(),
            owners_left: AtomicBool::new(false),
            leaves_out_rights,
            rights_left_out: AtomicU64::new(0),
            users: Mutex::default(),
            groups: Mutex::default(),
            troubles,
        }
    }

    pub(super) fn troubles(&self) -> &Troubles {
        &self.troubles
    }

    pub(super) fn left_out(&self) -> LeftOut {
        LeftOut { owners: self.owners_left.load(Ordering::Relaxed), rights: self.rights_left_out.load(Ordering::Relaxed) }
    }

    /// Whether something of this kind gives rights that are left out; it is counted then.
    pub(super) fn leaves_out(&self, kind: EntryKind) -> bool {
        self.leaves_right_out(matches!(kind, EntryKind::CharDevice | EntryKind::BlockDevice))
    }

    fn leaves_right_out(&self, gives_rights: bool) -> bool {
        let leaves_out = gives_rights && self.leaves_out_rights;
        self.rights_left_out.fetch_add(u64::from(leaves_out), Ordering::Relaxed);
        leaves_out
    }

    /// Owner, attributes, permissions and times, in this order: each of them undoes what comes after it. `shown` is the path that
    /// a person knows it by.
    pub(super) fn dress(&self, bare: &Bare<'_>, shown: &Path, entry: &Entry) {
        if let Err(error) = self.set_owner(bare, entry) {
            self.troubles.add(shown, Trouble::System, format!("its owner could not be set: {error}"));
        }
        for (name, value) in entry.xattrs.iter().flatten() {
            if let Err(error) = self.set_xattr(bare, name, value) {
                let name = String::from_utf8_lossy(name).into_owned();
                // A volume that is full says the same of an attribute as a file system that has no room for any of this length.
                let unsupported = [Errno::ENOTSUP, Errno::E2BIG, Errno::ENOSPC, Errno::ERANGE].map(|errno| Some(errno as i32));
                let trouble = if unsupported.contains(&error.raw_os_error()) { Trouble::Unsupported } else { Trouble::System };
                self.troubles.add(shown, trouble, format!("its attribute {name} could not be set: {error}"));
            }
        }
        if entry.kind != EntryKind::Symlink
            && let Err(error) = bare.set_mode(self.mode(entry))
        {
            self.troubles.add(shown, Trouble::System, format!("its permissions could not be set: {error}"));
        }
        if let Err(error) = bare.set_time(&TimeSpec::new(entry.mtime, entry.mtime_nanos.into())) {
            self.troubles.add(shown, Trouble::System, format!("its time could not be set: {error}"));
        }
    }

    /// Permissions, without those to run as the owner or group if they are left out. For a folder they mean something else.
    fn mode(&self, entry: &Entry) -> u32 {
        let runs_as = entry.kind != EntryKind::Directory && entry.mode & RUNS_AS != 0;
        if self.leaves_right_out(runs_as) { entry.mode & !RUNS_AS } else { entry.mode }
    }

    fn set_owner(&self, bare: &Bare<'_>, entry: &Entry) -> io::Result<()> {
        if !self.is_root {
            let differs = nix::unistd::geteuid().as_raw() != entry.uid;
            self.owners_left.fetch_or(differs, Ordering::Relaxed);
            return Ok(());
        }
        let uid = self.user(entry.owner.as_deref()).unwrap_or(entry.uid);
        let gid = self.group(entry.group.as_deref()).unwrap_or(entry.gid);
        bare.set_owner(uid, gid)
    }

    /// The id that a name has on this machine; it may be another than on the machine that was backed up.
    fn user(&self, name: Option<&str>) -> Option<u32> {
        let look_up = |name: &str| User::from_name(name).ok().flatten().map(|user| Uid::as_raw(user.uid));
        cached(&self.users, name?, look_up)
    }

    fn group(&self, name: Option<&str>) -> Option<u32> {
        let look_up = |name: &str| Group::from_name(name).ok().flatten().map(|group| Gid::as_raw(group.gid));
        cached(&self.groups, name?, look_up)
    }

    fn set_xattr(&self, bare: &Bare<'_>, name: &[u8], value: &[u8]) -> io::Result<()> {
        let needs_root = name.starts_with(b"security.") || name.starts_with(b"trusted.");
        if needs_root && !self.is_root {
            self.owners_left.store(true, Ordering::Relaxed);
            return Ok(());
        }
        if self.leaves_right_out(name == CAPABILITY) {
            return Ok(());
        }
        bare.set_xattr(OsStr::from_bytes(name), value)
    }
}

fn cached(cache: &Mutex<HashMap<String, Option<u32>>>, name: &str, look_up: impl FnOnce(&str) -> Option<u32>) -> Option<u32> {
    let mut cache = cache.lock().unwrap_or_else(PoisonError::into_inner);
    *cache.entry(name.to_owned()).or_insert_with(|| look_up(name))
}

/// Makes what has no content: links, pipes, devices, sockets.
pub(super) fn make_special(path: &Path, entry: &Entry) -> io::Result<()> {
    let node = |flag| {
        let device = entry.device.map_or(0, |(major, minor)| makedev(major.into(), minor.into()));
        mknod(path, flag, Mode::from_bits_truncate(0o600), device).map_err(io::Error::from)
    };
    match entry.kind {
        EntryKind::Symlink => {
            let target = entry.target.as_ref().ok_or(io::ErrorKind::InvalidData)?;
            std::os::unix::fs::symlink(OsStr::from_bytes(target), path)
        }
        EntryKind::Fifo => node(SFlag::S_IFIFO),
        EntryKind::CharDevice => node(SFlag::S_IFCHR),
        EntryKind::BlockDevice => node(SFlag::S_IFBLK),
        EntryKind::Socket => node(SFlag::S_IFSOCK),
        EntryKind::File | EntryKind::Directory => Err(io::ErrorKind::InvalidInput.into()),
    }
}
