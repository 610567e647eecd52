//! Volumes of the host, and whether a directory on one would do as a destination.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use nix::sys::statvfs::statvfs;

use super::Marker;

/// File systems that lie on another machine.
const NETWORK: &[&str] =
    &["nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "ceph", "afs", "ncpfs", "gfs2", "ocfs2", "lustre", "davfs"];
/// Names behind `fuse.` that stand for local file systems.
const LOCAL_FUSE: &[&str] = &["ntfs-3g", "exfat", "mergerfs", "lxcfs"];
/// File systems that keep nothing.
const VOLATILE: &[&str] = &["proc", "sysfs", "devpts", "devtmpfs", "cgroup2", "securityfs", "debugfs"];

/// The volume that a directory is on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Volume {
    pub(crate) mounted_at: String,
    pub(crate) file_system: String,
    pub(crate) size: u64,
    pub(crate) free: u64,
}

/// Whether a directory would do.
#[derive(Debug, Clone)]
pub(crate) struct Judgement {
    pub(crate) fit: bool,
    pub(crate) reasons: Vec<String>,
    pub(crate) volume: Option<Volume>,
}

/// The volume of a directory that exists.
pub(crate) fn volume_of(directory: &Path) -> io::Result<Volume> {
    let real = directory.canonicalize()?;
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let (mounted_at, file_system) = mount_of(&mounts, &real).unwrap_or_else(|| ("/".into(), "unknown".into()));
    let stat = statvfs(&real)?;
    let fragment = stat.fragment_size();
    Ok(Volume { mounted_at, file_system, size: stat.blocks() * fragment, free: stat.blocks_available() * fragment })
}

/// Mount point and file system type for a path, from the text of `mountinfo` (proc(5)).
fn mount_of(mountinfo: &str, path: &Path) -> Option<(String, String)> {
    mountinfo
        .lines()
        .filter_map(|line| {
            let (left, right) = line.split_once(" - ")?;
            let at = unescape(left.split(' ').nth(4)?);
            path.starts_with(&at).then(|| (at, right.split(' ').next().unwrap_or("unknown").to_owned()))
        })
        // Of several at one place the last one covers the others.
        .max_by_key(|(at, _)| Path::new(at).components().count())
}

/// `mountinfo` writes blanks and the like as three octal digits.
fn unescape(text: &str) -> String {
    text.replace("\\040", " ").replace("\\011", "\t").replace("\\012", "\n").replace("\\134", "\\")
}

fn is_network(file_system: &str) -> bool {
    match file_system.split_once('.') {
        Some(("fuse", name)) => !LOCAL_FUSE.contains(&name),
        _ => NETWORK.contains(&file_system),
    }
}

/// Judges whether `directory` would do as a destination beside those in `others`.
pub(crate) fn judge(directory: &Path, others: &[PathBuf], service: &str) -> Judgement {
    let refuse = |reason: String, volume| Judgement { fit: false, reasons: vec![reason], volume };
    let shown = directory.display();
    if !directory.is_absolute() {
        return refuse(format!("{shown} is not an absolute path"), None);
    }
    match fs::metadata(directory) {
        Err(e) => return refuse(format!("{shown} cannot be read: {e}"), None),
        Ok(metadata) if !metadata.is_dir() => return refuse(format!("{shown} is not a directory"), None),
        Ok(_) => {}
    }
    let volume = match volume_of(directory) {
        Ok(volume) => volume,
        Err(e) => return refuse(format!("the volume of {shown} cannot be examined: {e}"), None),
    };
    match unfit_reason(directory, others, service, &volume) {
        Some(reason) => refuse(reason, Some(volume)),
        None => Judgement { fit: true, reasons: warnings(&volume), volume: Some(volume) },
    }
}

fn unfit_reason(directory: &Path, others: &[PathBuf], service: &str, volume: &Volume) -> Option<String> {
    let shown = directory.display();
    let real = directory.canonicalize().unwrap_or_else(|_| directory.to_owned());
    if is_network(&volume.file_system) {
        return Some(format!(
            "{shown} is on storage mounted over the network ({}); a destination needs a local volume",
            volume.file_system
        ));
    }
    if VOLATILE.contains(&volume.file_system.as_str()) {
        return Some(format!("{shown} is on '{}', which keeps no files", volume.file_system));
    }
    match Marker::find(&real) {
        Some(owner) if owner == service => return Some(format!("{shown} is a destination of this service already")),
        Some(_) => return Some(format!("{shown} holds the marker of another installation")),
        None => {}
    }
    let real_of = |other: &PathBuf| other.canonicalize().unwrap_or_else(|_| other.clone());
    if let Some(other) = others.iter().find(|other| real.starts_with(real_of(other))) {
        return Some(format!("{shown} is inside the destination at {}", other.display()));
    }
    if let Some(other) = others.iter().find(|other| real_of(other).starts_with(&real)) {
        return Some(format!("{shown} contains the destination at {}", other.display()));
    }
    if let Some(ancestor) = real.ancestors().skip(1).find(|ancestor| Marker::find(ancestor).is_some()) {
        return Some(format!("{shown} is inside the destination at {}", ancestor.display()));
    }
    if let Err(e) = probe(&real) {
        return Some(format!("{shown} cannot be written to: {e}"));
    }
    let has_files = fs::read_dir(&real).is_ok_and(|mut entries| entries.any(|e| e.is_ok_and(|e| e.file_name() != "lost+found")));
    has_files.then(|| format!("{shown} is not empty; a destination is used for backups only"))
}

/// Writes, syncs and removes a small file.
fn probe(directory: &Path) -> io::Result<()> {
    let path = directory.join(format!(".jetfrost-probe-{}", std::process::id()));
    let result = File::create(&path).and_then(|mut file| file.write_all(b"probe").and_then(|()| file.sync_all()));
    let removed = fs::remove_file(&path);
    result.and(removed).and_then(|()| File::open(directory)?.sync_all())
}

fn warnings(volume: &Volume) -> Vec<String> {
    let mut warnings = Vec::new();
    if volume.mounted_at == "/" {
        warnings.push("this is the system's volume: if it fills up, the server suffers; keep a reserve".into());
    }
    if volume.file_system == "tmpfs" {
        warnings.push("this is memory: everything is gone after a restart".into());
    }
    warnings
}

#[cfg(test)]
mod tests {
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
        let of = |path: &str| mount_of(MOUNTS, Path::new(path));
        assert_eq!(of("/backup/stores"), Some(("/backup".into(), "xfs".into())));
        assert_eq!(of("/backups"), Some(("/".into(), "ext4".into())));
        assert_eq!(of("/srv/office share/x"), Some(("/srv/office share".into(), "nfs4".into())));
    }

    #[test]
    fn storage_over_the_network_is_known_as_such() {
        for (file_system, network) in
            [("nfs4", true), ("cifs", true), ("fuse.sshfs", true), ("fuse.exfat", false), ("ext4", false), ("tmpfs", false)]
        {
            assert_eq!(is_network(file_system), network, "{file_system}");
        }
        let volume = Volume { mounted_at: "/mnt/ssh".into(), file_system: "fuse.sshfs".into(), size: 1, free: 1 };
        let reason = unfit_reason(Path::new("/mnt/ssh"), &[], "s", &volume).expect("unfit");
        assert!(reason.contains("over the network"), "{reason}");
    }

    fn reasons(directory: &Path, others: &[PathBuf]) -> String {
        let judgement = judge(directory, others, "s");
        assert!(!judgement.fit);
        judgement.reasons.join("; ")
    }

    #[test]
    fn what_does_not_do_says_why() {
        let root = tempfile::tempdir().expect("a directory");
        let file = root.path().join("file");
        fs::write(&file, "x").expect("written");
        assert!(reasons(&file, &[]).contains("is not a directory"));
        assert!(reasons(&root.path().join("none"), &[]).contains("cannot be read"));
        assert!(reasons(Path::new("relative"), &[]).contains("not an absolute path"));
        assert!(reasons(root.path(), &[]).contains("not empty"));
        let inner = root.path().join("inner");
        fs::create_dir(&inner).expect("made");
        assert!(reasons(&inner, &[root.path().to_owned()]).contains("is inside the destination"));
        assert!(reasons(root.path(), std::slice::from_ref(&inner)).contains("contains the destination"));
        assert!(judge(&inner, &[], "s").fit);
        Marker::new("another", "d", "n", "").write(&inner).expect("written");
        assert!(reasons(&inner, &[]).contains("marker of another installation"));
        assert!(reasons(Path::new("/proc"), &[]).contains("keeps no files"));
    }
}
