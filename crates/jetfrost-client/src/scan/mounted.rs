//! Whether a disk is in use while it is read.

use std::fs;
use std::path::PathBuf;

use nix::sys::stat::{major, minor};

/// Whether the block device with this number, or a part of it, is mounted for writing (`proc(5)`, mountinfo).
pub(super) fn is_mounted_for_writing(device: u64) -> bool {
    let Some(disk) = in_sys(&format!("{}:{}", major(device), minor(device))) else { return false };
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    writable(&mounts).any(|number| in_sys(number).is_some_and(|mounted| mounted.starts_with(&disk)))
}

/// The device's place in the tree of devices: partitions lie below their disk.
fn in_sys(number: &str) -> Option<PathBuf> {
    fs::canonicalize(format!("/sys/dev/block/{number}")).ok()
}

/// The device numbers (`major:minor`) of what is mounted for writing.
fn writable(mountinfo: &str) -> impl Iterator<Item = &str> {
    mountinfo.lines().filter_map(|line| {
        let mut fields = line.split(' ');
        let (number, options) = (fields.nth(2)?, fields.nth(2)?);
        options.split(',').any(|option| option == "rw").then_some(number)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_mounted_for_reading_only_does_not_change() {
        let mounts = "26 1 254:0 / / rw,relatime shared:1 - ext4 /dev/vda rw\n\
                      31 26 254:17 / /mnt/archive ro,noatime - ext4 /dev/vdb1 ro\n\
                      nonsense\n";
        assert_eq!(writable(mounts).collect::<Vec<_>>(), ["254:0"]);
    }
}
