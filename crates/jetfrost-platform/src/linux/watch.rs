//! Changes by `fanotify(7)`, with marks on whole file systems and reports that name the directory (`FAN_REPORT_DIR_FID`, Linux 5.9).
//!
//! A report has the handle of a directory, as the file system makes handles (`name_to_handle_at(2)`). Those of the file systems that are watched
//! hold the directory's inode number, which is all that is read of them.

use std::collections::{HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};

use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::fanotify::{EventFFlags, Fanotify, InitFlags, MarkFlags, MaskFlags};
use nix::sys::statfs::{EXT4_SUPER_MAGIC, FsType, TMPFS_MAGIC, XFS_SUPER_MAGIC, statfs};
use nix::sys::statvfs::statvfs;
use nix::unistd::read;

use crate::{Accounts, ChangeWatch, Changes, Paths, System};

/// `FAN_REPORT_DIR_FID` of `linux/fanotify.h`.
const REPORT_DIRECTORIES: InitFlags = InitFlags::from_bits_retain(0x400);
/// It is there while the kernel's NFS server is.
const EXPORTS: &str = "/proc/net/rpc/nfsd";
/// A report has 24 bytes of its own, and then records (`struct fanotify_event_metadata`).
const REPORT: usize = 24;
/// Records with the handle of a directory: for what is done to its entries or to itself (`FAN_EVENT_INFO_TYPE_DFID`), and for what is done to a
/// file in it (`FAN_EVENT_INFO_TYPE_FID`; without `FAN_REPORT_FID` there are none of files themselves).
const DIRECTORY: [u8; 2] = [3, 1];
/// More folders at once are as good as all.
const MOST: usize = 50_000;

/// A watch over file systems.
pub struct Watch {
    fanotify: Fanotify,
    /// Volumes by the number that reports have for their file system.
    volumes: HashMap<u64, u64>,
    buffer: Vec<u8>,
}

impl ChangeWatch for Watch {
    fn begin(paths: &[PathBuf]) -> io::Result<Option<Self>> {
        let tells = |kind: FsType| [EXT4_SUPER_MAGIC, XFS_SUPER_MAGIC, TMPFS_MAGIC].contains(&kind);
        // What comes over an export is told without its directory.
        if !System::is_administrator() || paths.is_empty() || Path::new(EXPORTS).exists() {
            return Ok(None);
        }
        let flags = InitFlags::FAN_CLASS_NOTIF | InitFlags::FAN_CLOEXEC | InitFlags::FAN_NONBLOCK | REPORT_DIRECTORIES;
        let fanotify = match Fanotify::init(flags, EventFFlags::O_RDONLY) {
            // The system is older, or does not allow it.
            Err(Errno::EINVAL | Errno::ENOSYS | Errno::EPERM) => return Ok(None),
            other => other?,
        };
        let mut volumes = HashMap::new();
        for path in paths {
            let (volume, number) = (System::metadata_behind(path)?.volume, statvfs(path)?.filesystem_id());
            if !tells(statfs(path)?.filesystem_type()) || volumes.insert(number, volume).is_some_and(|other| other != volume) {
                return Ok(None);
            }
            match fanotify.mark(MarkFlags::FAN_MARK_ADD | MarkFlags::FAN_MARK_FILESYSTEM, changes(), AT_FDCWD, Some(path)) {
                // This file system has no number or makes no handles.
                Err(Errno::ENODEV | Errno::EOPNOTSUPP | Errno::EXDEV | Errno::EINVAL) => return Ok(None),
                other => other?,
            }
        }
        Ok(Some(Self { fanotify, volumes, buffer: vec![0; 64 << 10] }))
    }

    fn volumes(&self) -> HashSet<u64> {
        self.volumes.values().copied().collect()
    }

    fn changes(&mut self) -> io::Result<Changes> {
        let (mut found, mut is_told) = (HashSet::new(), true);
        loop {
            let length = match read(&self.fanotify, &mut self.buffer) {
                Ok(0) | Err(Errno::EAGAIN) => break,
                Err(Errno::EINTR) => continue,
                other => other?,
            };
            let mut reports = &self.buffer[..length];
            while let Some((report, rest)) = split(reports) {
                is_told &= note(report, &self.volumes, &mut found).is_some() && found.len() <= MOST;
                reports = rest;
            }
            is_told &= reports.is_empty();
        }
        Ok(if is_told { Changes::In(found) } else { Changes::Untold })
    }
}

/// All that makes a file, or its entry in a directory, another than it was.
fn changes() -> MaskFlags {
    MaskFlags::FAN_MODIFY
        | MaskFlags::FAN_ATTRIB
        | MaskFlags::FAN_CLOSE_WRITE
        | MaskFlags::FAN_CREATE
        | MaskFlags::FAN_DELETE
        | MaskFlags::FAN_MOVE
        | MaskFlags::FAN_ONDIR
}

/// The first of several reports, and the others.
fn split(reports: &[u8]) -> Option<(&[u8], &[u8])> {
    let length = usize::try_from(number(reports, 0)?).ok()?;
    if length < REPORT { None } else { reports.split_at_checked(length) }
}

/// Notes what a report tells of. None when that is not known: the queue ran over, or the report is of another form.
fn note(report: &[u8], volumes: &HashMap<u64, u64>, found: &mut HashSet<(u64, u64)>) -> Option<()> {
    const VERSION: u8 = 3;
    let mask = MaskFlags::from_bits_retain(wide(report, 8)?);
    if mask.contains(MaskFlags::FAN_Q_OVERFLOW) || *report.get(4)? != VERSION {
        return None;
    }
    let record = report.get(REPORT..)?;
    if !DIRECTORY.contains(record.first()?) {
        return None;
    }
    let handle = record.get(20..)?;
    let length = usize::try_from(number(record, 12)?).ok()?;
    let inode = inode(number(record, 16)?, handle.get(..length)?)?;
    // Of volumes that were not asked for there are no marks.
    found.insert((*volumes.get(&wide(record, 4)?)?, inode));
    Some(())
}

/// The inode number in a handle: ext4 and small numbers of XFS have it first of two words, tmpfs in the second and third, and large numbers of
/// XFS are 64 bits.
fn inode(kind: u32, handle: &[u8]) -> Option<u64> {
    const NUMBER_AND_GENERATION: u32 = 1;
    const LARGE_NUMBER: u32 = 0x81;
    match (kind, handle.len()) {
        (NUMBER_AND_GENERATION, 8) => number(handle, 0).map(u64::from),
        (NUMBER_AND_GENERATION, 12) => wide(handle, 4),
        (LARGE_NUMBER, 12) => wide(handle, 0),
        _ => None,
    }
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn wide(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_ne_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use std::fs::{self, File, OpenOptions};
    use std::io::Write;
    use std::os::unix::fs::PermissionsExt;
    use std::sync::Mutex;

    use proptest::prelude::*;

    use super::*;

    /// Each of these tests makes more reports than another could have waiting.
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

    fn id(path: &Path) -> (u64, u64) {
        let found = System::metadata_of(path).expect("there");
        (found.volume, found.file)
    }

    /// Each of what people and programs do is told of, with the folder that it is done in.
    #[test]
    fn whatever_changes_is_told_with_its_folder() {
        let _alone = ONE_AT_A_TIME.lock();
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let (one, other) = (root.join("one"), root.join("other"));
        let (one_id, other_id) = {
            fs::create_dir_all(one.join("below")).expect("made");
            fs::create_dir(&other).expect("made");
            fs::write(one.join("file"), "first").expect("written");
            (id(&one), id(&other))
        };
        let mut watch = Watch::begin(&[root.clone()]).expect("begun").expect("root on a file system that tells");
        let mut told = |what: &str, folder: (u64, u64)| match watch.changes().expect("asked") {
            Changes::In(folders) => assert!(folders.contains(&folder), "{what}: {folders:?} without {folder:?}"),
            Changes::Untold => panic!("{what}: untold"),
        };
        let file = one.join("file");
        OpenOptions::new().append(true).open(&file).and_then(|mut file| file.write_all(b"more")).expect("written");
        told("written to", one_id);
        fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).expect("set");
        told("permissions", one_id);
        File::options()
            .write(true)
            .open(&file)
            .and_then(|file| file.set_modified(std::time::SystemTime::UNIX_EPOCH))
            .expect("set");
        told("times", one_id);
        xattr::set(&file, "user.colour", b"blue").expect("set");
        told("attributes", one_id);
        fs::write(one.join("new"), "").expect("made");
        told("made", one_id);
        fs::rename(one.join("new"), other.join("new")).expect("moved");
        told("moved in", other_id);
        fs::remove_file(other.join("new")).expect("removed");
        told("removed", other_id);
        fs::set_permissions(&other, fs::Permissions::from_mode(0o700)).expect("set");
        told("permissions of a folder", other_id);
        fs::rename(one.join("below"), other.join("below")).expect("moved");
        told("folder moved", other_id);
        std::os::unix::fs::symlink("x", one.join("link")).expect("made");
        told("link", one_id);
        let quiet = watch.changes().expect("asked");
        assert!(!matches!(quiet, Changes::In(folders) if folders.contains(&one_id)), "it is told once");
    }

    #[test]
    fn more_than_the_system_keeps_is_untold_and_then_it_goes_on() {
        let _alone = ONE_AT_A_TIME.lock();
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let mut watch = Watch::begin(&[root.clone()]).expect("begun").expect("root on a file system that tells");
        let most: usize =
            fs::read_to_string("/proc/sys/fs/fanotify/max_queued_events").map_or(16_384, |n| n.trim().parse().expect("a number"));
        for n in 0..=most {
            fs::create_dir(root.join(n.to_string())).expect("made");
            fs::write(root.join(n.to_string()).join("x"), "").expect("made");
        }
        assert_eq!(watch.changes().expect("asked"), Changes::Untold);
        fs::write(root.join("y"), "").expect("made");
        assert!(matches!(watch.changes().expect("asked"), Changes::In(folders) if folders.contains(&id(&root))));
    }

    #[test]
    fn what_does_not_tell_is_not_watched() {
        assert!(Watch::begin(&[PathBuf::from("/proc")]).expect("asked").is_none());
        assert!(Watch::begin(&[]).expect("asked").is_none());
        assert!(Watch::begin(&[PathBuf::from("/nowhere at all")]).is_err());
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_fail_otherwise(bytes: Vec<u8>) {
            let mut reports = &bytes[..];
            while let Some((report, rest)) = split(reports) {
                let _ = note(report, &HashMap::new(), &mut HashSet::new());
                reports = rest;
            }
        }
    }
}
