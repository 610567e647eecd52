//! Changes by `fanotify(7)`, with marks on whole file systems and reports that name the directory (`FAN_REPORT_DIR_FID`, Linux 5.9).
//!
//! A report has the handle of a directory, as the file system makes handles (`name_to_handle_at(2)`). Those of the file systems that are watched
//! hold the directory's inode number, which is all that is read of them.
//!
//! Writes by `io_submit(2)` and by the loop driver are not reported, nor are those to shared mappings; the file's last closing is. So files that
//! are open for writing are found by other means, in `/proc`: the links of open files have the mode that they are open with.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, ErrorKind};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::fanotify::{EventFFlags, Fanotify, InitFlags, MarkFlags, MaskFlags};
use nix::sys::statfs::{EXT4_SUPER_MAGIC, FsType, TMPFS_MAGIC, XFS_SUPER_MAGIC, statfs};
use nix::sys::statvfs::statvfs;
use nix::unistd::read;

use crate::{Accounts, ChangeWatch, Changes, FileKind, Metadata, Paths, System, path_of};

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

    fn being_written(&self) -> io::Result<HashSet<(u64, u64)>> {
        let volumes = self.volumes();
        let mut found = HashSet::new();
        for entry in fs::read_dir("/proc")? {
            let process = entry?.path();
            let is_process = process.file_name().is_some_and(|name| name.as_bytes().iter().all(u8::is_ascii_digit));
            if is_process {
                match unless_gone(written_by(&process, &volumes, &mut found)) {
                    // From within a container not even root sees what others outside have open: the reports are all there is then.
                    Err(error) if error.kind() == ErrorKind::PermissionDenied => {}
                    other => drop(other?),
                }
            }
        }
        unless_gone(written_by_loop_devices(&volumes, &mut found))?;
        Ok(found)
    }
}

/// Notes the folders of the files that a process has open for writing.
fn written_by(process: &Path, volumes: &HashSet<u64>, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    const FOR_WRITING: u32 = 0o200;
    for entry in fs::read_dir(process.join("fd"))? {
        let link = entry?.path();
        let is_for_writing = unless_gone(System::metadata_of(&link))?.is_some_and(|link| link.mode & FOR_WRITING != 0);
        let is_of_them = |file: &Metadata| file.kind == Some(FileKind::File) && volumes.contains(&file.volume);
        if !is_for_writing || !unless_gone(System::metadata_behind(&link))?.as_ref().is_some_and(is_of_them) {
            continue;
        }
        // One that was closed meanwhile was told of. The path is as the process sees it.
        if let Some(path) = unless_gone(fs::read_link(&link))? {
            note_folder_of(&process.join("root"), &path, found)?;
        }
    }
    Ok(())
}

/// Notes the folders of the files behind loop devices.
fn written_by_loop_devices(volumes: &HashSet<u64>, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    for entry in fs::read_dir("/sys/block")? {
        let Some(path) = unless_gone(fs::read(entry?.path().join("loop/backing_file")))? else { continue };
        let path = path_of(path.trim_ascii_end());
        if unless_gone(System::metadata_behind(&path))?.is_some_and(|file| volumes.contains(&file.volume)) {
            note_folder_of(Path::new("/"), &path, found)?;
        }
    }
    Ok(())
}

fn note_folder_of(root: &Path, path: &Path, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    let Some(folder) = path.parent() else { return Ok(()) };
    let folder = root.join(folder.strip_prefix("/").unwrap_or(folder));
    // One that is gone was told of.
    if let Some(folder) = unless_gone(System::metadata_behind(&folder))? {
        found.insert((folder.volume, folder.file));
    }
    Ok(())
}

/// What a process or file says that may be gone by now.
fn unless_gone<T>(said: io::Result<T>) -> io::Result<Option<T>> {
    match said {
        Ok(said) => Ok(Some(said)),
        Err(error) if error.kind() == ErrorKind::NotFound || error.raw_os_error() == Some(Errno::ESRCH as i32) => Ok(None),
        Err(error) => Err(error),
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
    use std::fs::{File, OpenOptions};
    use std::io::{BufRead, BufReader, Write};
    use std::os::unix::fs::PermissionsExt;
    use std::process::{Command, Stdio};
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
        let mut watch = Watch::begin(std::slice::from_ref(&root)).expect("begun").expect("root on a file system that tells");
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
        let mut watch = Watch::begin(std::slice::from_ref(&root)).expect("begun").expect("root on a file system that tells");
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

    /// Databases write past the calls that are reported, also from within containers.
    #[test]
    fn files_that_are_open_for_writing_are_found_whoever_has_them_open_and_by_whichever_path() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        for name in ["here", "elsewhere", "read", "image"] {
            fs::create_dir(root.join(name)).expect("made");
            File::create(root.join(name).join("file")).and_then(|file| file.set_len(1 << 20)).expect("made");
        }
        let watch = Watch::begin(std::slice::from_ref(&root)).expect("begun").expect("root on a file system that tells");
        let found = |name: &str| watch.being_written().expect("asked").contains(&id(&root.join(name)));
        let open = File::options().write(true).open(root.join("here/file")).expect("opened");
        let read = File::open(root.join("read/file")).expect("opened");
        assert!(found("here") && !found("read") && !found("elsewhere") && !found("image"));
        drop((open, read));
        assert!(!found("here"));

        // A program that sees the folder elsewhere.
        let script = format!("mount --bind {}/elsewhere /mnt && exec 3>>/mnt/file && echo open && read -r _", root.display());
        let mut command = Command::new("unshare");
        let mut child =
            command.args(["-m", "sh", "-c", &script]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it runs");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("piped")).read_line(&mut line).expect("read");
        assert!(line == "open\n" && found("elsewhere"));
        drop(child.stdin.take());
        child.wait().expect("it ended");
        assert!(!found("elsewhere"));

        let image = root.join("image/file");
        let device = Command::new("losetup").args(["--find", "--show"]).arg(&image).output().expect("losetup runs").stdout;
        assert!(found("image"));
        let device = String::from_utf8(device).expect("text");
        assert!(Command::new("losetup").args(["--detach", device.trim()]).status().expect("losetup runs").success());
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
