//! The folders that a restore goes through, held as they were found first. Whoever can rename folders or put links among them while it
//! goes on leads nothing of it elsewhere: neither what is brought back, nor owners and permissions that are given.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::{fs, io};

use lru::LruCache;

use jetfrost_platform::{
    Accounts, Directory, Machine, Metadata, NewDirectory, Node, OpenDirectory, System, name_bytes, rename_new,
};

use crate::scan::FolderId;

/// Folders that are kept open, with those that they are in: files are mostly brought back one folder after the other, and to open a
/// folder anew by its whole path takes a call of the system for each name in it.
const OPEN: NonZeroUsize = NonZeroUsize::new(128).expect("not zero");
/// Whom a network volume that trusts no administrator makes the owner of what one makes there.
const NOBODY: u32 = 65_534;

/// Folders by their paths, each the same for as long as the restore goes on.
#[derive(Debug)]
pub(super) struct PinnedFolders {
    known: Mutex<HashMap<PathBuf, FolderId>>,
    /// Those used last.
    open: Mutex<LruCache<PathBuf, Arc<Directory>>>,
}

impl Default for PinnedFolders {
    fn default() -> Self {
        Self { known: Mutex::default(), open: Mutex::new(LruCache::new(OPEN)) }
    }
}

/// A name in a folder that is held.
#[derive(Debug)]
pub(super) struct Way {
    folder: Arc<Directory>,
    path: PathBuf,
}

impl Way {
    /// A path that leads there for as long as this is there. People know it by another.
    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    fn name(&self) -> &[u8] {
        self.path.file_name().map(name_bytes).unwrap_or_default()
    }

    /// What is there, held.
    fn node(&self) -> io::Result<Node> {
        self.folder.node(self.name())
    }
}

impl PinnedFolders {
    /// The way to a path whose folder is there. No link leads on it.
    pub(super) fn way(&self, path: &Path) -> io::Result<Way> {
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
            return Err(io::ErrorKind::InvalidInput.into());
        };
        let folder = self.folder(parent)?;
        let path = folder.path_to(name_bytes(name))?;
        Ok(Way { folder, path })
    }

    /// What has a path, without following a link.
    pub(super) fn metadata_of(&self, path: &Path) -> io::Result<Metadata> {
        self.way(path)?.node()?.metadata()
    }

    /// Something without a content that this restore made: to be given all but that.
    pub(super) fn made_special(&self, path: &Path) -> io::Result<Node> {
        let node = self.way(path)?.node()?;
        if is_ours(&node.metadata()?) { Ok(node) } else { Err(replaced()) }
    }

    /// Makes a folder that is for its owner alone. It is made under a temporary name beside its own, and `note` learns its number in the
    /// file system before it gets that: whoever finds it there knows who made it, also when this process was killed in between.
    pub(super) fn make(&self, path: &Path, temporary: &Path, note: impl FnOnce(u64)) -> io::Result<()> {
        let (temporary, way) = (self.way(temporary)?, self.way(path)?);
        fs::DirBuilder::new().private().create(temporary.path())?;
        let made = temporary.folder.hold_directory(temporary.name())?;
        let found = made.metadata()?;
        let is_empty = fs::read_dir(made.path_to(b".")?)?.next().is_none();
        if !is_ours(&found) || !is_empty {
            return Err(replaced());
        }
        note(found.file);
        if let Err(error) = rename_new(temporary.path(), way.path()) {
            let _ = fs::remove_dir(temporary.path());
            return Err(error);
        }
        self.check(path, &found)?;
        self.open().put(path.into(), Arc::new(made));
        Ok(())
    }

    /// A folder itself, to be given all but its content.
    pub(super) fn node(&self, folder: &Path) -> io::Result<Node> {
        self.folder(folder)?.node(b".")
    }

    /// Waits until all that was written to folders at a path and below it is on the disk, in whatever file systems they are.
    pub(super) fn sync_below(&self, base: &Path) -> io::Result<()> {
        let mut of_volumes: HashMap<u64, Vec<PathBuf>> = HashMap::new();
        for (path, found) in self.known.lock().unwrap_or_else(PoisonError::into_inner).iter() {
            if path.starts_with(base) {
                of_volumes.entry(found.volume).or_default().push(path.clone());
            }
        }
        of_volumes.into_values().try_for_each(|mut folders| {
            folders.sort_unstable();
            // One that may not be read has been given back just that; the others are in the same file system.
            let may_be_read = |synced: &io::Result<()>| {
                synced.as_ref().err().is_none_or(|error| error.kind() != io::ErrorKind::PermissionDenied)
            };
            let synced = folders.iter().map(|path| self.folder(path)?.sync_file_system()).find(may_be_read);
            synced.unwrap_or_else(|| {
                System::sync_all_file_systems();
                Ok(())
            })
        })
    }

    /// A folder; the one that had this path when it was first asked for, in the one that its own folder was.
    pub(super) fn folder(&self, path: &Path) -> io::Result<Arc<Directory>> {
        if let Some(directory) = self.open().get(path) {
            return Ok(Arc::clone(directory));
        }
        let directory = match (path.parent(), path.file_name()) {
            (Some(parent), Some(name)) => self.folder(parent)?.hold_directory(name_bytes(name))?,
            (None, _) => Directory::root()?,
            (Some(_), None) => return Err(io::ErrorKind::InvalidInput.into()),
        };
        self.check(path, &directory.metadata()?)?;
        let directory = Arc::new(directory);
        self.open().put(path.into(), Arc::clone(&directory));
        Ok(directory)
    }

    fn open(&self) -> MutexGuard<'_, LruCache<PathBuf, Arc<Directory>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn check(&self, path: &Path, found: &Metadata) -> io::Result<()> {
        let found = FolderId { volume: found.volume, file: found.file };
        match self.known.lock().unwrap_or_else(PoisonError::into_inner).entry(path.into()) {
            Entry::Occupied(known) if *known.get() != found => Err(replaced()),
            Entry::Occupied(_) => Ok(()),
            Entry::Vacant(unknown) => {
                unknown.insert(found);
                Ok(())
            }
        }
    }
}

/// Whether this can be what was made just now.
fn is_ours(made: &Metadata) -> bool {
    [System::own_ids().0, NOBODY].contains(&made.uid)
}

fn replaced() -> io::Error {
    io::Error::other("something else was put in its place during the restore")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What somebody does who may rename things where it is restored to.
    #[test]
    fn a_folder_that_was_replaced_is_not_gone_into_and_one_that_is_open_stays_what_it_was() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let at = |path: &str| root.join(path);
        for folder in ["real/deep", "trap/deep"] {
            fs::create_dir_all(at(folder)).expect("made");
        }
        let folders = PinnedFolders::default();
        folders.folder(&at("real/deep")).expect("known from now on");
        let way = folders.way(&at("real/letter")).expect("a way");
        fs::rename(at("real"), at("moved")).expect("moved");
        for lead_elsewhere in [
            |root: &Path| std::os::unix::fs::symlink("trap", root.join("real")).expect("linked"),
            |root: &Path| fs::create_dir(root.join("real")).expect("made"),
        ] {
            lead_elsewhere(&root);
            fs::write(way.path(), "dear Aud").expect("written");
            fs::remove_file(at("moved/letter")).expect("in the one that it was");
            // Open no more.
            folders.open().clear();
            assert!(folders.way(&at("real/other")).is_err());
            assert!(folders.node(&at("real")).is_err());
            // What is below a folder that was replaced is in another one, whatever it is called.
            assert!(folders.way(&at("real/deep/letter")).is_err());
            fs::remove_file(at("real")).or_else(|_| fs::remove_dir(at("real"))).expect("removed");
        }
        fs::rename(at("moved"), at("real")).expect("moved back");
        assert!(folders.way(&at("real/other")).is_ok());
    }

    #[test]
    fn what_was_written_is_synced_also_where_a_folder_may_not_be_read() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let folders = PinnedFolders::default();
        folders.make(&root.join("closed"), &root.join("temporary"), |_| ()).expect("made");
        fs::set_permissions(root.join("closed"), std::os::unix::fs::PermissionsExt::from_mode(0o0)).expect("set");
        folders.sync_below(&root.join("closed")).expect("all of the machine");
        folders.sync_below(&root).expect("by the one that may be read");
        folders.sync_below(&root.join("nothing")).expect("nothing to do");
    }

    #[test]
    fn only_so_many_folders_are_open_at_once_and_a_link_is_held_as_itself() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let folders = PinnedFolders::default();
        for n in 0..2 * OPEN.get() {
            folders.make(&root.join(n.to_string()), &root.join("temporary"), |_| ()).expect("made");
        }
        assert_eq!(folders.open().len(), OPEN.get());
        let link = root.join("3/link");
        std::os::unix::fs::symlink("/etc/passwd", &link).expect("linked");
        let found = folders.made_special(&link).expect("ours").metadata().expect("there");
        assert_eq!(found.kind, Some(jetfrost_platform::FileKind::Symlink));
        let again = folders.make(&root.join("3"), &root.join("temporary"), |_| ());
        assert_eq!(again.expect_err("it is there").kind(), io::ErrorKind::AlreadyExists);
        assert!(!root.join("temporary").exists(), "nothing stays behind");
        assert!(folders.way(Path::new("/")).is_err());
    }
}
