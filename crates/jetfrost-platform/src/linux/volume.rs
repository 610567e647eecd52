//! Volumes and block devices.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use nix::sys::statfs::{EXT4_SUPER_MAGIC, XFS_SUPER_MAGIC, statfs};
use nix::sys::statvfs::statvfs;
use procfs::process::{MountInfo, Process};

use crate::{Devices, DiskDevice, System, Volumes};

impl Volumes for System {
    fn size_and_free(path: &Path) -> io::Result<(u64, u64)> {
        let volume = statvfs(path)?;
        let bytes = |blocks: u64| blocks.saturating_mul(volume.fragment_size());
        Ok((bytes(volume.blocks()), bytes(volume.blocks_available())))
    }

    fn gains_past_cache(directory: &Path) -> bool {
        statfs(directory).is_ok_and(|there| [EXT4_SUPER_MAGIC, XFS_SUPER_MAGIC].contains(&there.filesystem_type()))
    }

    fn mount_points() -> io::Result<Vec<PathBuf>> {
        let mounts = Process::myself().and_then(|process| process.mountinfo()).map_err(io::Error::other)?;
        Ok(mounts.into_iter().map(|mount| mount.mount_point).collect())
    }

    fn mounted_files() -> io::Result<Vec<PathBuf>> {
        let mounts = Process::myself().and_then(|process| process.mountinfo()).map_err(io::Error::other)?;
        Ok(mounts.into_iter().filter(is_on_disk).map(|mount| mount.mount_point).collect())
    }
}

/// File systems on disks of this machine, as `/proc/self/mountinfo` calls them.
const ON_DISK: [&str; 14] =
    ["bcachefs", "btrfs", "exfat", "ext2", "ext3", "ext4", "f2fs", "fuseblk", "hfsplus", "jfs", "ntfs3", "vfat", "xfs", "zfs"];

fn is_on_disk(mount: &MountInfo) -> bool {
    ON_DISK.contains(&mount.fs_type.as_str())
}

impl Devices for System {
    fn disk_devices() -> io::Result<Vec<DiskDevice>> {
        let mounts = Process::myself().and_then(|process| process.mountinfo()).map_err(io::Error::other)?;
        let mounted: Vec<PathBuf> = mounts.iter().filter_map(|mount| in_sys(&mount.majmin)).collect();
        let mut disks: Vec<DiskDevice> =
            fs::read_dir("/sys/block")?.flatten().filter_map(|entry| disk_at(&entry.path(), &mounted)).collect();
        disks.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(disks)
    }

    fn is_mounted_for_writing((major, minor): (u32, u32)) -> io::Result<bool> {
        let Some(disk) = in_sys(&format!("{major}:{minor}")) else { return Ok(false) };
        let mounts = Process::myself().and_then(|process| process.mountinfo()).map_err(io::Error::other)?;
        let lies_on_it = |mount: &MountInfo| in_sys(&mount.majmin).is_some_and(|mounted| mounted.starts_with(&disk));
        Ok(mounts.iter().filter(|mount| is_for_writing(mount)).any(lies_on_it))
    }
}

/// What is called so is memory, or can only be read.
const NO_DISKS: [&str; 4] = ["ram", "zram", "sr", "fd"];
/// `/sys/block/*/size` counts these, whatever sectors the device has.
const SYS_SECTOR: u64 = 512;

/// The disk that a folder of `/sys/block` tells of. One without anything in it, such as an empty card reader, is none.
fn disk_at(sys: &Path, mounted: &[PathBuf]) -> Option<DiskDevice> {
    let name = sys.file_name()?.to_str()?;
    let said = |what: &str| fs::read_to_string(sys.join(what)).ok().map(|text| text.trim().to_owned());
    let bytes = said("size")?.parse::<u64>().ok()?.checked_mul(SYS_SECTOR).filter(|bytes| *bytes > 0)?;
    let kind = name.trim_end_matches(|c: char| c.is_ascii_digit());
    if NO_DISKS.contains(&kind) {
        return None;
    }
    let place = fs::canonicalize(sys).ok()?;
    let is_mounted = mounted.iter().any(|mounted| mounted.starts_with(&place));
    let model = said("device/model").filter(|model| !model.is_empty());
    Some(DiskDevice { path: Path::new("/dev").join(name.replace('!', "/")), bytes, model, is_mounted })
}

/// The device's place in the tree of devices: partitions lie below their disk.
fn in_sys(number: &str) -> Option<PathBuf> {
    fs::canonicalize(format!("/sys/dev/block/{number}")).ok()
}

fn is_for_writing(mount: &MountInfo) -> bool {
    mount.mount_options.contains_key("rw")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_mounted_for_reading_only_does_not_change() {
        let of = |line: &str| MountInfo::from_line(line).expect("a line of mountinfo");
        let for_writing = of("26 1 254:0 / / rw,relatime shared:1 - ext4 /dev/vda rw");
        let for_reading = of("31 26 254:17 / /mnt/archive ro,noatime - ext4 /dev/vdb1 ro");
        assert!(is_for_writing(&for_writing) && for_writing.majmin == "254:0");
        assert!(!is_for_writing(&for_reading));
    }

    #[test]
    fn what_holds_files_of_this_machine_is_told_from_what_does_not() {
        let of = |kind: &str| {
            MountInfo::from_line(&format!("31 26 254:17 / /mnt rw - {kind} source rw")).expect("a line of mountinfo")
        };
        assert!(["ext4", "xfs", "btrfs", "vfat", "fuseblk"].iter().all(|kind| is_on_disk(&of(kind))));
        assert!(!["proc", "tmpfs", "nfs4", "cifs", "squashfs", "overlay", "fuse.sshfs"].iter().any(|kind| is_on_disk(&of(kind))));
    }
}
