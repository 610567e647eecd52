//! What restored files have beside their content: owners, permissions, attributes, times.

use std::collections::HashMap;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use jetfrost_image::format::{Entry, EntryKind};
use jetfrost_platform::{Accounts, MetadataTarget, Restored, System};

use super::{LeftOut, Owners, Trouble, Troubles};
use crate::entries::modified;

/// Set user id and set group id (POSIX.1-2017, sys/stat.h).
const RUNS_AS: u32 = 0o6000;

/// Gives restored files everything but their content.
pub(super) struct MetadataApplier {
    is_root: bool,
    owners_left: AtomicBool,
    leaves_out_rights: bool,
    whose: Owners,
    rights_left_out: AtomicU64,
    users: Mutex<HashMap<String, Option<u32>>>,
    groups: Mutex<HashMap<String, Option<u32>>>,
    troubles: Troubles,
}

impl MetadataApplier {
    pub(super) fn new(troubles: Troubles, leaves_out_rights: bool, whose: Owners) -> Self {
        Self {
            is_root: System::is_administrator(),
            owners_left: AtomicBool::new(false),
            leaves_out_rights,
            whose,
            rights_left_out: AtomicU64::new(0),
            users: Mutex::default(),
            groups: Mutex::default(),
            troubles,
        }
    }

    pub(super) fn troubles(&self) -> &Troubles {
        &self.troubles
    }

    pub(super) fn left_out(&self) -> LeftOut {
        LeftOut { owners: self.owners_left.load(Ordering::Relaxed), rights: self.rights_left_out.load(Ordering::Relaxed) }
    }

    /// Whether something of this kind gives rights that are left out; it is counted then.
    pub(super) fn leaves_out(&self, kind: EntryKind) -> bool {
        self.leaves_right_out(matches!(kind, EntryKind::CharDevice | EntryKind::BlockDevice))
    }

    fn leaves_right_out(&self, gives_rights: bool) -> bool {
        let leaves_out = gives_rights && self.leaves_out_rights;
        self.rights_left_out.fetch_add(u64::from(leaves_out), Ordering::Relaxed);
        leaves_out
    }

    /// Owner, attributes, permissions and times, in this order: each of them undoes what comes after it. `shown` is the path that
    /// a person knows it by.
    pub(super) fn apply(&self, target: &Restored<'_>, shown: &Path, entry: &Entry) {
        if let Err(error) = self.set_owner(target, entry) {
            self.troubles.add(shown, Trouble::System, format!("its owner could not be set: {error}"));
        }
        for (name, value) in entry.xattrs.iter().flatten() {
            if let Err(error) = self.set_xattr(target, name, value) {
                let name = String::from_utf8_lossy(name).into_owned();
                let unsupported = error.kind() == io::ErrorKind::Unsupported;
                let trouble = if unsupported { Trouble::Unsupported } else { Trouble::System };
                self.troubles.add(shown, trouble, format!("its attribute {name} could not be set: {error}"));
            }
        }
        if entry.kind != EntryKind::Symlink
            && let Err(error) = target.set_mode(self.mode(entry))
        {
            self.troubles.add(shown, Trouble::System, format!("its permissions could not be set: {error}"));
        }
        if let Err(error) = target.set_modified(modified(entry)) {
            self.troubles.add(shown, Trouble::System, format!("its time could not be set: {error}"));
        }
    }

    /// Permissions, without those to run as the owner or group if they are left out. For a folder they mean something else.
    fn mode(&self, entry: &Entry) -> u32 {
        let runs_as = entry.kind != EntryKind::Directory && entry.mode & RUNS_AS != 0;
        if self.leaves_right_out(runs_as) { entry.mode & !RUNS_AS } else { entry.mode }
    }

    fn set_owner(&self, target: &Restored<'_>, entry: &Entry) -> io::Result<()> {
        if !self.is_root {
            let differs = System::own_ids().0 != entry.uid;
            self.owners_left.fetch_or(differs, Ordering::Relaxed);
            return Ok(());
        }
        let (uid, gid) = match self.whose {
            Owners::ByNumber => (None, None),
            Owners::ByName => (self.user(entry.owner.as_deref()), self.group(entry.group.as_deref())),
        };
        target.set_owner(uid.unwrap_or(entry.uid), gid.unwrap_or(entry.gid))
    }

    /// The id that a name has on this machine; it may be another than on the machine that was backed up.
    fn user(&self, name: Option<&str>) -> Option<u32> {
        cached(&self.users, name?, System::user_id)
    }

    fn group(&self, name: Option<&str>) -> Option<u32> {
        cached(&self.groups, name?, System::group_id)
    }

    fn set_xattr(&self, target: &Restored<'_>, name: &[u8], value: &[u8]) -> io::Result<()> {
        if Restored::is_of_administrators(name) && !self.is_root {
            self.owners_left.store(true, Ordering::Relaxed);
            return Ok(());
        }
        if self.leaves_right_out(Restored::gives_rights(name)) {
            return Ok(());
        }
        target.set_attribute(name, value)
    }
}

fn cached(cache: &Mutex<HashMap<String, Option<u32>>>, name: &str, look_up: impl FnOnce(&str) -> Option<u32>) -> Option<u32> {
    let mut cache = cache.lock().unwrap_or_else(PoisonError::into_inner);
    *cache.entry(name.to_owned()).or_insert_with(|| look_up(name))
}
