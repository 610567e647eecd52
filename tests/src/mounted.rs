//! Volumes in memory, and block devices on files.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A volume of its own in memory, unmounted when dropped.
pub struct Mounted {
    /// Where it is mounted.
    pub path: PathBuf,
}

impl Mounted {
    /// Mounts a volume of `size` (as mount(8) writes it); `None` where this machine does not allow it.
    #[must_use]
    pub fn new(at: &Path, size: &str) -> Option<Self> {
        fs::create_dir_all(at).expect("a directory");
        let options = format!("size={size}");
        let done = Command::new("mount").args(["-t", "tmpfs", "-o", &options, "tmpfs"]).arg(at).output().expect("mount runs");
        done.status.success().then(|| Self { path: at.into() })
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.path).output();
    }
}

/// A block device on a file, given back when dropped.
pub struct LoopDevice {
    /// The device.
    pub path: PathBuf,
}

impl LoopDevice {
    /// Makes a device of a file; `None` where this machine does not allow it.
    #[must_use]
    pub fn new(file: &Path) -> Option<Self> {
        let done = Command::new("losetup").args(["--find", "--show"]).arg(file).output().expect("losetup runs");
        let path = String::from_utf8_lossy(&done.stdout).trim().into();
        done.status.success().then_some(Self { path })
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        let _ = Command::new("losetup").arg("--detach").arg(&self.path).output();
    }
}
