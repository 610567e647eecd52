//! Walking the file system and turning it into a tree.

mod attributes;
mod change_cache;
mod change_profile;
mod count;
mod dir_reader;
mod extents;
mod facts;
mod file;
mod form;
mod stand_in;
#[cfg(test)]
pub(crate) mod testing;
mod walk;

use std::io;

use jetfrost_image::format::{Cause, Exception};
use jetfrost_platform::reason;

pub(crate) use attributes::MOST_VALUES;
pub use change_cache::FolderId;
pub(crate) use change_cache::{ChangeCache, ChangeCacheWriter, Difference, Kept, KnownFolders, Needs, forget};
pub(crate) use count::{count, count_disks};
pub(crate) use dir_reader::{DirEntry, Inside, Reading, Seen, View, is_tagged_cache};
pub(crate) use extents::is_zero;
pub(crate) use stand_in::{StandIn, StandIns};
pub(crate) use walk::{Walk, WalkResult};

/// What a walk counted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Regular files in the point.
    pub files: u64,
    /// Folders in the point.
    pub folders: u64,
    /// Bytes of content in the point.
    pub bytes: u64,
    /// Files that were read because they are new or changed.
    pub read: u64,
    /// Left out by a pattern.
    pub skipped: u64,
    /// Mount points of other volumes, which were not entered.
    pub mounts: u64,
}

impl Counts {
    /// What was counted since.
    fn since(&self, before: &Self) -> Self {
        Self {
            files: self.files - before.files,
            folders: self.folders - before.folders,
            bytes: self.bytes - before.bytes,
            read: self.read - before.read,
            skipped: self.skipped - before.skipped,
            mounts: self.mounts - before.mounts,
        }
    }

    /// Adds what was counted elsewhere.
    fn add(&mut self, more: &Self) {
        self.files += more.files;
        self.folders += more.folders;
        self.bytes += more.bytes;
        self.read += more.read;
        self.skipped += more.skipped;
        self.mounts += more.mounts;
    }
}

/// Exceptions kept with a point; beyond this they are only counted.
const MOST_LISTED: usize = 10_000;

/// What a point does not hold as it was.
#[derive(Debug, Default)]
pub(crate) struct Exceptions {
    pub(crate) listed: Vec<Exception>,
    pub(crate) counts: jetfrost_wire::run::ExceptionCounts,
}

impl Exceptions {
    fn add(&mut self, cause: Cause, path: &[u8], explanation: impl Into<String>) {
        match cause {
            Cause::ChangedWhileRead => self.counts.changed_while_read += 1,
            Cause::Unreadable => self.counts.unreadable += 1,
            Cause::Disappeared => self.counts.disappeared += 1,
        }
        if self.listed.len() < MOST_LISTED {
            self.listed.push(Exception { cause, path: path.to_vec(), explanation: explanation.into() });
        }
    }

    /// Something that could not be read, by what the system said.
    fn failed(&mut self, path: &[u8], error: &io::Error) {
        let cause = if error.kind() == io::ErrorKind::NotFound { Cause::Disappeared } else { Cause::Unreadable };
        self.add(cause, path, reason(error));
    }
}
