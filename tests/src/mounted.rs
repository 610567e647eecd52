//! Volumes in memory and in image files, and block devices on files.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A volume of its own, unmounted when dropped.
pub struct Mounted {
    /// Where it is mounted.
    pub path: PathBuf,
}

impl Mounted {
    /// Mounts a volume of `size` (as mount(8) writes it).
    #[must_use]
    pub fn new(at: &Path, size: &str) -> Self {
        fs::create_dir_all(at).expect("a directory");
        Self::mount(at, &["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"])
    }

    /// Mounts the file system in an image file for reading.
    #[must_use]
    pub fn image(at: &Path, image: &Path) -> Self {
        fs::create_dir_all(at).expect("a directory");
        Self::mount(at, &["-o", "ro,loop", image.to_str().expect("a test's path is text")])
    }

    /// Mounts what is on a device.
    #[must_use]
    pub fn device(at: &Path, device: &Path) -> Self {
        fs::create_dir_all(at).expect("a directory");
        Self::mount(at, &[device.to_str().expect("a test's path is text")])
    }

    /// Mounts a directory once more.
    #[must_use]
    pub fn again(directory: &Path, at: &Path) -> Self {
        fs::create_dir_all(at).expect("a directory");
        Self::mount(at, &["--bind", directory.to_str().expect("a test's path is text")])
    }

    fn mount(at: &Path, arguments: &[&str]) -> Self {
        let done = Command::new("mount").args(arguments).arg(at).output().expect("mount runs");
        assert!(done.status.success(), "mount {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
        Self { path: at.into() }
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
    /// Makes a device of a file.
    #[must_use]
    pub fn new(file: &Path) -> Self {
        let done = Command::new("losetup").args(["--find", "--show"]).arg(file).output().expect("losetup runs");
        assert!(done.status.success(), "losetup: {}", String::from_utf8_lossy(&done.stderr));
        Self { path: String::from_utf8_lossy(&done.stdout).trim().into() }
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        let _ = Command::new("losetup").arg("--detach").arg(&self.path).output();
    }
}
