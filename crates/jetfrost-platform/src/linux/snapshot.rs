//! Snapshots of Btrfs subvolumes (`btrfs-subvolume(8)`). They lie within the subvolume under a name of their own, read-only, and are
//! no part of themselves.

use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::process::Command;

use nix::sys::statfs::{BTRFS_SUPER_MAGIC, statfs};

use crate::{Accounts, Directory, FileKind, OpenDirectory, Paths, Snapshot, System};

/// The name of a snapshot in its subvolume.
const NAME: &str = ".jetfrost-snapshot";
/// The number that a subvolume's own directory has.
const SUBVOLUME: u64 = 256;
/// Others than the owner may write.
const FOR_OTHERS: u32 = 0o022;

/// A snapshot of a subvolume.
#[derive(Debug)]
pub struct TakenSnapshot {
    subvolume: PathBuf,
}

impl Snapshot for TakenSnapshot {
    fn take(volume: &Path) -> io::Result<Option<Self>> {
        if !System::is_administrator() || statfs(volume)?.filesystem_type() != BTRFS_SUPER_MAGIC {
            return Ok(None);
        }
        let itself = System::metadata_of(volume)?;
        // Where somebody else can write, the name may lead elsewhere by the time that it is used.
        let is_ours = itself.uid == 0 && itself.mode & FOR_OTHERS == 0;
        if itself.file != SUBVOLUME || itself.kind != Some(FileKind::Directory) || !is_ours {
            return Ok(None);
        }
        let at = volume.join(NAME);
        match System::metadata_of(&at) {
            Err(error) if error.kind() == ErrorKind::NotFound => {}
            Err(error) => return Err(error),
            Ok(_) => remove(&at)?,
        }
        btrfs(&["subvolume", "snapshot", "-r"], &[volume, &at])?;
        Ok(Some(Self { subvolume: volume.to_owned() }))
    }

    fn directory(&self) -> io::Result<Directory> {
        Directory::at(&self.subvolume)?.open_directory(NAME.as_bytes())
    }
}

impl Drop for TakenSnapshot {
    fn drop(&mut self) {
        // What stays is removed by the next that is taken.
        let _ = remove(&self.subvolume.join(NAME));
    }
}

/// Removes a snapshot that an earlier process left. What can be written to is somebody else's.
fn remove(at: &Path) -> io::Result<()> {
    if btrfs(&["property", "get", "-ts"], &[at, Path::new("ro")])?.trim() != "ro=true" {
        let what = format!("{} is there, and no snapshot of this program", at.display());
        return Err(io::Error::new(ErrorKind::AlreadyExists, what));
    }
    btrfs(&["subvolume", "delete"], &[at]).map(drop)
}

/// Has `btrfs(8)` do something; what it says against it is the error.
fn btrfs(what: &[&str], with: &[&Path]) -> io::Result<String> {
    let output = Command::new("btrfs").args(what).args(with).output().map_err(|error| match error.kind() {
        ErrorKind::NotFound => io::Error::new(ErrorKind::Unsupported, "the program btrfs is not installed"),
        _ => error,
    })?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(io::Error::other(String::from_utf8_lossy(&output.stderr).trim().to_owned()))
}
