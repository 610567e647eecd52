//! Changes in single folders, by `inotify(7)`: for accounts that may not watch whole volumes.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use nix::errno::Errno;
use nix::sys::inotify::{AddWatchFlags, InitFlags, Inotify, WatchDescriptor};

use super::MOST;
use crate::{Changes, Directory, OpenDirectory};

/// How many watches an account may have.
const LIMIT: &str = "/proc/sys/fs/inotify/max_user_watches";

/// A watch over folders.
pub(super) struct FolderWatch {
    inotify: Inotify,
    /// The volumes on which folders are watched.
    volumes: HashSet<u64>,
    folders: HashMap<WatchDescriptor, (u64, u64)>,
    watches: HashMap<(u64, u64), WatchDescriptor>,
    most: usize,
}

impl FolderWatch {
    pub(super) fn begin(volumes: &HashSet<u64>) -> io::Result<Option<Self>> {
        let inotify = match Inotify::init(InitFlags::IN_CLOEXEC | InitFlags::IN_NONBLOCK) {
            // This account has as many as it may have.
            Err(Errno::EMFILE) => return Ok(None),
            other => other?,
        };
        let allowed: usize = fs::read_to_string(LIMIT).ok().and_then(|limit| limit.trim().parse().ok()).unwrap_or_default();
        // The person's other programs watch folders as well.
        let most = MOST.min(allowed / 2);
        Ok(Some(Self { inotify, volumes: volumes.clone(), folders: HashMap::new(), watches: HashMap::new(), most }))
    }

    /// Watches an open folder. Which it is, if it was not watched before.
    pub(super) fn add(&mut self, folder: &Directory) -> io::Result<Option<(u64, u64)>> {
        let found = folder.metadata()?;
        let id = (found.volume, found.file);
        let is_watched = self.watches.contains_key(&id);
        if !self.volumes.contains(&id.0) || (self.watches.len() >= self.most && !is_watched) {
            return Ok(None);
        }
        // Also one that seems to be watched: that may have been another, which is gone and had the same number.
        let watch = match self.inotify.add_watch(&folder.path(), changes()) {
            Err(Errno::ENOSPC) => {
                self.most = self.watches.len();
                return Ok(None);
            }
            other => other?,
        };
        self.folders.insert(watch, id);
        Ok((self.watches.insert(id, watch) != Some(watch)).then_some(id))
    }

    pub(super) fn watched(&self) -> HashSet<(u64, u64)> {
        self.watches.keys().copied().collect()
    }

    pub(super) fn as_fd(&self) -> BorrowedFd<'_> {
        self.inotify.as_fd()
    }

    pub(super) fn changes(&mut self) -> io::Result<Changes> {
        let (mut found, mut is_told) = (HashSet::new(), true);
        loop {
            let reports = match self.inotify.read_events() {
                Err(Errno::EAGAIN) => break,
                Err(Errno::EINTR) => continue,
                other => other?,
            };
            for report in reports {
                is_told &= !report.mask.contains(AddWatchFlags::IN_Q_OVERFLOW) && found.len() <= MOST;
                let Some(folder) = self.folders.get(&report.wd).copied() else { continue };
                found.insert(folder);
                if report.mask.contains(AddWatchFlags::IN_IGNORED) {
                    self.forget(report.wd, folder);
                }
            }
        }
        Ok(if is_told { Changes::In(found) } else { Changes::Untold })
    }

    /// The folder is gone. Another may be watched by its number meanwhile.
    fn forget(&mut self, watch: WatchDescriptor, folder: (u64, u64)) {
        self.folders.remove(&watch);
        if self.watches.get(&folder) == Some(&watch) {
            self.watches.remove(&folder);
        }
    }
}

/// All that makes a folder, or what is in it, another than it was.
fn changes() -> AddWatchFlags {
    AddWatchFlags::IN_MODIFY
        | AddWatchFlags::IN_ATTRIB
        | AddWatchFlags::IN_CLOSE_WRITE
        | AddWatchFlags::IN_CREATE
        | AddWatchFlags::IN_DELETE
        | AddWatchFlags::IN_DELETE_SELF
        | AddWatchFlags::IN_MOVE
        | AddWatchFlags::IN_MOVE_SELF
        | AddWatchFlags::IN_ONLYDIR
}
