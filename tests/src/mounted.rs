//! Volumes in memory.

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
