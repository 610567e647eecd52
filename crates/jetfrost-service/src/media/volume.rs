//! Volumes of the host: where they are mounted, how, and what they have free.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use nix::sys::statfs::{
    AFS_SUPER_MAGIC, CODA_SUPER_MAGIC, FUSE_SUPER_MAGIC, FsType, NCP_SUPER_MAGIC, NFS_SUPER_MAGIC, OCFS2_SUPER_MAGIC,
    SMB_SUPER_MAGIC, statfs,
};
use nix::sys::statvfs::{FsFlags, statvfs};
use procfs::process::{MountInfo, Process};

/// Types of file systems on other machines that the crate has no name for (statfs(2), linux/magic.h): CIFS, SMB 2, 9P, Ceph, GFS2, Lustre.
const NETWORK_TYPES: [i64; 6] = [0xFF53_4D42, 0xFE53_4D42, 0x0102_1997, 0x00C3_6400, 0x0116_1970, 0x0BD0_0BD0];
/// Names of file systems on other machines, for where the type is not enough.
const NETWORK: &[&str] =
    &["nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "ceph", "afs", "ncpfs", "gfs2", "ocfs2", "lustre", "davfs"];
/// Names behind `fuse.` that stand for local file systems; of any other it is not known where it keeps its files.
const LOCAL_FUSE: &[&str] = &["ntfs-3g", "exfat", "mergerfs"];
/// File systems that no person keeps files on.
const OF_THE_SYSTEM: &[&str] = &[
    "proc",
    "sysfs",
    "devpts",
    "devtmpfs",
    "cgroup",
    "cgroup2",
    "securityfs",
    "debugfs",
    "tracefs",
    "bpf",
    "pstore",
    "mqueue",
    "hugetlbfs",
    "configfs",
    "fusectl",
    "binfmt_misc",
    "autofs",
    "rpc_pipefs",
    "efivarfs",
    "nsfs",
    "ramfs",
    "fuse.lxcfs",
    "fuse.portal",
    "squashfs",
    "overlay",
    "selinuxfs",
];

/// What is smaller is no volume that anybody would think of.
const LEAST: u64 = 1_000_000;

/// A line of `mountinfo` (proc(5)).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Mount {
    pub(super) at: String,
    pub(super) file_system: String,
    /// A device, or another machine's share.
    pub(super) source: String,
    /// The device's numbers, `major:minor`.
    pub(super) numbers: String,
}

/// The volume that a directory is on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Volume {
    pub(crate) mounted_at: String,
    pub(crate) file_system: String,
    pub(crate) device: String,
    pub(crate) size: u64,
    pub(crate) free: u64,
    pub(super) read_only: bool,
    pub(super) network: bool,
    pub(super) removable: bool,
    /// Whether the system itself is on the same device.
    pub(super) system: bool,
}

/// The volume of a directory that exists.
pub(crate) fn volume_of(directory: &Path) -> io::Result<Volume> {
    let real = directory.canonicalize()?;
    let mounts = all_mounts()?;
    let mount = mount_of(&mounts, &real).cloned().unwrap_or_else(|| Mount {
        at: "/".into(),
        file_system: "unknown".into(),
        source: "unknown".into(),
        numbers: String::new(),
    });
    examine(&real, mount, &mounts)
}

/// The volumes that a person may keep files on, by where they are mounted; one that is mounted several times, once.
pub(super) fn all_volumes() -> io::Result<Vec<Volume>> {
    let mounts = all_mounts()?;
    let mut volumes: Vec<Volume> = Vec::new();
    for mount in mounts.iter().filter(|mount| !is_of_the_system(mount)) {
        let covered = mount_of(&mounts, Path::new(&mount.at)).is_none_or(|top| top != mount);
        // A single file can be mounted, too.
        if covered || !Path::new(&mount.at).is_dir() {
            continue;
        }
        let Ok(volume) = examine(Path::new(&mount.at), mount.clone(), &mounts) else { continue };
        let again = volumes.iter().any(|other| other.device == volume.device && other.device.starts_with("/dev/"));
        if volume.size >= LEAST && !again {
            volumes.push(volume);
        }
    }
    volumes.sort_by(|a, b| a.mounted_at.cmp(&b.mounted_at));
    Ok(volumes)
}

/// Whether nobody would keep files there: what only shows the system's state, and memory that the system works with.
fn is_of_the_system(mount: &Mount) -> bool {
    let works_with = ["/dev", "/run", "/sys", "/proc"].iter().any(|top| Path::new(&mount.at).starts_with(top));
    OF_THE_SYSTEM.contains(&mount.file_system.as_str()) || (mount.file_system == "tmpfs" && works_with)
}

fn examine(directory: &Path, mount: Mount, mounts: &[Mount]) -> io::Result<Volume> {
    let (stat, kind) = (statvfs(directory)?, statfs(directory)?.filesystem_type());
    let fragment = stat.fragment_size();
    let root = mount_of(mounts, Path::new("/"));
    Ok(Volume {
        size: stat.blocks() * fragment,
        free: stat.blocks_available() * fragment,
        read_only: stat.flags().contains(FsFlags::ST_RDONLY),
        network: is_network(kind, &mount.file_system),
        removable: is_removable(&mount.numbers),
        system: root.is_some_and(|root| root.numbers == mount.numbers),
        mounted_at: mount.at,
        file_system: mount.file_system,
        device: mount.source,
    })
}

fn all_mounts() -> io::Result<Vec<Mount>> {
    let mounts = Process::myself().and_then(|process| process.mountinfo()).map_err(io::Error::other)?;
    Ok(mounts.into_iter().map(mount).collect())
}

fn mount(info: MountInfo) -> Mount {
    Mount {
        at: unescape(&info.mount_point.to_string_lossy()),
        numbers: info.majmin,
        file_system: info.fs_type,
        source: unescape(&info.mount_source.unwrap_or_default()),
    }
}

/// The mount that a path is on. Of several at one place the last one covers the others.
fn mount_of<'m>(mounts: &'m [Mount], path: &Path) -> Option<&'m Mount> {
    mounts.iter().filter(|mount| path.starts_with(&mount.at)).max_by_key(|mount| Path::new(&mount.at).components().count())
}

/// `mountinfo` writes blanks and the like as three octal digits.
fn unescape(text: &str) -> String {
    text.replace("\\040", " ").replace("\\011", "\t").replace("\\012", "\n").replace("\\134", "\\")
}

/// By what the system says it is (statfs(2)), and by its name: of FUSE the type says only that it is one.
fn is_network(kind: FsType, name: &str) -> bool {
    let known = [NFS_SUPER_MAGIC, SMB_SUPER_MAGIC, AFS_SUPER_MAGIC, CODA_SUPER_MAGIC, NCP_SUPER_MAGIC, OCFS2_SUPER_MAGIC];
    // The type is a signed word on some platforms, so its lower half is what counts.
    let number = kind.0 & 0xFFFF_FFFF;
    if kind == FUSE_SUPER_MAGIC || name.starts_with("fuse") {
        let local = name.split_once('.').is_some_and(|(_, name)| LOCAL_FUSE.contains(&name)) || name == "fuseblk";
        return !local;
    }
    known.contains(&kind) || NETWORK_TYPES.contains(&number) || NETWORK.contains(&name)
}

/// Whether a device, or the disk that it is a part of, can be unplugged.
fn is_removable(numbers: &str) -> bool {
    let Ok(device) = fs::canonicalize(format!("/sys/dev/block/{numbers}")) else { return false };
    let says_so = |directory: &Path| fs::read_to_string(directory.join("removable")).is_ok_and(|text| text.trim() == "1");
    let parent = device.parent().map(PathBuf::from).unwrap_or_default();
    let by_cable = device.components().any(|part| part.as_os_str().to_string_lossy().starts_with("usb"));
    says_so(&device) || says_so(&parent) || by_cable
}

#[cfg(test)]
mod tests {
    use nix::sys::statfs::EXT4_SUPER_MAGIC;

    use super::*;

    const MOUNTS: &str = "\
22 1 254:0 / / rw,relatime shared:1 - ext4 /dev/vda rw
40 22 0:30 / /srv/office\\040share rw - nfs4 filer:/office rw
41 22 0:31 / /mnt/ssh rw - fuse.sshfs me@there: rw
42 22 0:32 / /mnt/stick rw - fuse.exfat /dev/sdb1 rw
43 22 254:16 / /backup rw - xfs /dev/vdb rw
";

    #[test]
    fn the_innermost_mount_counts() {
        let mounts: Vec<Mount> = MOUNTS.lines().map(|line| mount(MountInfo::from_line(line).expect("a line"))).collect();
        let of = |path: &str| mount_of(&mounts, Path::new(path)).map(|m| (m.at.as_str(), m.source.as_str()));
        assert_eq!(of("/backup/stores"), Some(("/backup", "/dev/vdb")));
        assert_eq!(of("/backups"), Some(("/", "/dev/vda")));
        assert_eq!(of("/srv/office share/x"), Some(("/srv/office share", "filer:/office")));
    }

    #[test]
    fn storage_over_the_network_is_known_by_type_or_name() {
        for (kind, name, network) in [
            (NFS_SUPER_MAGIC, "whatever", true),
            (FsType(0xFF53_4D42_u32 as _), "whatever", true),
            (EXT4_SUPER_MAGIC, "cifs", true),
            (FUSE_SUPER_MAGIC, "fuse.sshfs", true),
            (FUSE_SUPER_MAGIC, "fuse", true),
            (FUSE_SUPER_MAGIC, "fuse.exfat", false),
            (FUSE_SUPER_MAGIC, "fuseblk", false),
            (EXT4_SUPER_MAGIC, "ext4", false),
        ] {
            assert_eq!(is_network(kind, name), network, "{kind:?} {name}");
        }
    }

    #[test]
    fn this_machines_volumes_are_found() {
        let volumes = all_volumes().expect("listed");
        let here = volume_of(&std::env::temp_dir()).expect("examined");
        assert!(here.size > 0 && here.free <= here.size);
        assert!(volumes.iter().all(|volume| volume.mounted_at != "/proc"), "{volumes:?}");
    }
}
