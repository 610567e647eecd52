//! Entries of a point beside what the system says of a file.

use jetfrost_image::format::{Entry, EntryKind};
use jetfrost_platform::{FileKind, Special, Time};

pub(crate) fn entry_kind(kind: FileKind) -> EntryKind {
    match kind {
        FileKind::File => EntryKind::File,
        FileKind::Directory => EntryKind::Directory,
        FileKind::Symlink => EntryKind::Symlink,
        FileKind::Fifo => EntryKind::Fifo,
        FileKind::CharDevice => EntryKind::CharDevice,
        FileKind::BlockDevice => EntryKind::BlockDevice,
        FileKind::Socket => EntryKind::Socket,
    }
}

pub(crate) fn file_kind(kind: EntryKind) -> FileKind {
    match kind {
        EntryKind::File => FileKind::File,
        EntryKind::Directory => FileKind::Directory,
        EntryKind::Symlink => FileKind::Symlink,
        EntryKind::Fifo => FileKind::Fifo,
        EntryKind::CharDevice => FileKind::CharDevice,
        EntryKind::BlockDevice => FileKind::BlockDevice,
        EntryKind::Socket => FileKind::Socket,
    }
}

/// When the content of an entry changed last.
pub(crate) fn modified(entry: &Entry) -> Time {
    Time { seconds: entry.mtime, nanos: entry.mtime_nanos }
}

/// What an entry without content is to the system.
pub(crate) fn special(entry: &Entry) -> Special<'_> {
    Special { kind: file_kind(entry.kind), target: entry.target.as_ref().map(|target| &target[..]), device: entry.device }
}
