//! A directory on a local file system.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::fs::{DirBuilderExt, FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nix::sys::statvfs::statvfs;

use super::past_cache::PastCache;
use super::{Listed, Medium, StoredFile, USUAL_BLOCK, WritableFile};

/// Keeps a store's files under one directory of the local file system.
#[derive(Debug)]
pub struct DirectoryMedium {
    root: PathBuf,
    block: u64,
}

impl DirectoryMedium {
    /// A medium in `root`, which must exist.
    #[must_use]
    pub fn new(root: impl Into<PathBuf>) -> Self {
        let root = root.into();
        let block = statvfs(&root).map_or(USUAL_BLOCK, |volume| volume.fragment_size());
        Self { root, block }
    }

    fn path(&self, path: &str) -> PathBuf {
        if path.is_empty() { self.root.clone() } else { self.root.join(path) }
    }

    fn entries(&self, directory: &str, mut each: impl FnMut(String, &fs::Metadata)) -> io::Result<()> {
        let entries = match fs::read_dir(self.path(directory)) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
            other => other?,
        };
        for entry in entries {
            let entry = entry?;
            // A file that went away in between is not in the listing; names that are not text are not ours.
            if let (Ok(name), Ok(metadata)) = (entry.file_name().into_string(), entry.metadata()) {
                each(name, &metadata);
            }
        }
        Ok(())
    }
}

impl Medium for DirectoryMedium {
    fn block(&self) -> u64 {
        self.block
    }

    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        let mut files = Vec::new();
        self.entries(directory, |name, metadata| {
            if metadata.is_file() {
                files.push(Listed { name, len: metadata.len() });
            }
        })?;
        files.sort_unstable();
        Ok(files)
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        let mut names = Vec::new();
        self.entries(directory, |name, metadata| {
            if metadata.is_dir() {
                names.push(name);
            }
        })?;
        names.sort_unstable();
        Ok(names)
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        let file = File::open(self.path(path))?;
        let len = file.metadata()?.len();
        Ok(Arc::new(Open { file, len }))
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        match fs::DirBuilder::new().mode(0o700).create(self.path(path)) {
            // What another wrote may hold a link there: what is written, or cleared, would be somewhere else.
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                let is_own = fs::symlink_metadata(self.path(path))?.is_dir();
                return if is_own {
                    Ok(())
                } else {
                    Err(io::Error::new(io::ErrorKind::NotADirectory, format!("{path} is no directory of its own")))
                };
            }
            other => other?,
        }
        sync(self.path(path).parent().unwrap_or(&self.root))
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        let file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(self.path(path))?;
        Ok(Box::new(PastCache::at(file, 0)))
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        fs::rename(self.path(from), self.path(to))
    }

    fn sync_directory(&self, path: &str) -> io::Result<()> {
        sync(&self.path(path))
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        fs::remove_file(self.path(path))
    }
}

pub(super) fn sync(directory: &Path) -> io::Result<()> {
    File::open(directory)?.sync_all()
}

#[derive(Debug)]
struct Open {
    file: File,
    len: u64,
}

impl StoredFile for Open {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_exact_at(&self, buf: &mut [u8], offset: u64) -> io::Result<()> {
        self.file.read_exact_at(buf, offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A disk that another wrote had a link in the place of `staging`: what it pointed to was emptied.
    #[test]
    fn a_link_in_the_place_of_a_directory_is_refused() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir(root.path().join("elsewhere")).expect("made");
        std::os::unix::fs::symlink("elsewhere", root.path().join("staging")).expect("linked");
        let medium = DirectoryMedium::new(root.path());
        assert_eq!(medium.make_directory("staging").expect_err("refused").kind(), io::ErrorKind::NotADirectory);
        medium.make_directory("elsewhere").expect("a directory is one");
    }
}
