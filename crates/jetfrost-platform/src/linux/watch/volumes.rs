//! Changes by `fanotify(7)`, with marks on whole file systems and reports that name the directory (`FAN_REPORT_DIR_FID`, Linux 5.9).
//!
//! A report has the handle of a directory, as the file system makes handles (`name_to_handle_at(2)`). Those of the file systems that are watched
//! hold the directory's inode number, which is all that is read of them.

use std::collections::{HashMap, HashSet};
use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::PathBuf;

use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::fanotify::{EventFFlags, Fanotify, InitFlags, MarkFlags, MaskFlags};
use nix::sys::statvfs::statvfs;
use nix::unistd::read;

use super::MOST;
use crate::{Changes, Paths, System};

/// `FAN_REPORT_DIR_FID` of `linux/fanotify.h`.
const REPORT_DIRECTORIES: InitFlags = InitFlags::from_bits_retain(0x400);
/// A report has 24 bytes of its own, and then records (`struct fanotify_event_metadata`).
const REPORT: usize = 24;
/// Records with the handle of a directory: for what is done to its entries or to itself (`FAN_EVENT_INFO_TYPE_DFID`), and for what is done to a
/// file in it (`FAN_EVENT_INFO_TYPE_FID`; without `FAN_REPORT_FID` there are none of files themselves).
const DIRECTORY: [u8; 2] = [3, 1];
/// A watch over file systems.
pub(super) struct VolumeWatch {
    fanotify: Fanotify,
    /// Volumes by the number that reports have for their file system.
    volumes: HashMap<u64, u64>,
    buffer: Vec<u8>,
}

impl VolumeWatch {
    pub(super) fn begin(paths: &[PathBuf]) -> io::Result<Option<Self>> {
        let flags = InitFlags::FAN_CLASS_NOTIF | InitFlags::FAN_CLOEXEC | InitFlags::FAN_NONBLOCK | REPORT_DIRECTORIES;
        let fanotify = match Fanotify::init(flags, EventFFlags::O_RDONLY) {
            // The system is older, or does not allow it.
            Err(Errno::EINVAL | Errno::ENOSYS | Errno::EPERM) => return Ok(None),
            other => other?,
        };
        let mut volumes = HashMap::new();
        for path in paths {
            let (volume, number) = (System::metadata_behind(path)?.volume, statvfs(path)?.filesystem_id());
            if volumes.insert(number, volume).is_some_and(|other| other != volume) {
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

    pub(super) fn as_fd(&self) -> BorrowedFd<'_> {
        self.fanotify.as_fd()
    }

    pub(super) fn changes(&mut self) -> io::Result<Changes> {
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
    use proptest::prelude::*;

    use super::*;

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
