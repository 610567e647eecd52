//! A medium over another that is never written to: what is written, renamed or removed happens above it.

use std::collections::BTreeSet;
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Listed, Medium, StoredFile, WritableFile};

/// Shows the files of `below` as they would be after changes that go to `above` alone.
#[derive(Debug)]
pub struct OverlayMedium {
    below: Arc<dyn Medium>,
    above: Arc<dyn Medium>,
    /// Paths below that are not to be seen any more.
    hidden: Mutex<BTreeSet<String>>,
}

impl OverlayMedium {
    /// Changes to `below` go to `above`, which is empty.
    #[must_use]
    pub fn new(below: Arc<dyn Medium>, above: Arc<dyn Medium>) -> Self {
        Self { below, above, hidden: Mutex::default() }
    }

    fn hidden(&self) -> MutexGuard<'_, BTreeSet<String>> {
        self.hidden.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn shows(&self, path: &str) -> bool {
        !self.hidden().contains(path)
    }

    /// Makes the directory above, as far as it is there below.
    fn bring_up(&self, directory: &str) -> io::Result<()> {
        let mut path = String::new();
        for part in directory.split('/').filter(|part| !part.is_empty()) {
            let there = self.below.directories(&path)?.iter().any(|name| name == part);
            path = super::join(&path, part);
            if there {
                self.above.make_directory(&path)?;
            }
        }
        Ok(())
    }

    /// Copies a file up so that it can be renamed.
    fn copy_up(&self, path: &str) -> io::Result<()> {
        let from = self.below.open(path)?;
        self.bring_up(parent(path))?;
        let mut to = self.above.create(path)?;
        let (mut buffer, mut at) = (vec![0; 1 << 20], 0);
        while at < from.len() {
            let n = usize::try_from(from.len() - at).unwrap_or(usize::MAX).min(buffer.len());
            from.read_exact_at(&mut buffer[..n], at)?;
            to.write_all(&buffer[..n])?;
            at += n as u64;
        }
        to.flush()
    }
}

fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(directory, _)| directory)
}

impl Medium for OverlayMedium {
    fn block(&self) -> u64 {
        self.below.block()
    }

    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        let mut files = self.above.list(directory)?;
        for listed in self.below.list(directory)? {
            let covered = files.iter().any(|above| above.name == listed.name);
            if !covered && self.shows(&super::join(directory, &listed.name)) {
                files.push(listed);
            }
        }
        files.sort_unstable();
        Ok(files)
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        let names: BTreeSet<String> =
            self.above.directories(directory)?.into_iter().chain(self.below.directories(directory)?).collect();
        Ok(names.into_iter().collect())
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        match self.above.open(path) {
            Err(e) if e.kind() == io::ErrorKind::NotFound && self.shows(path) => self.below.open(path),
            other => other,
        }
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        self.bring_up(parent(path))?;
        self.above.make_directory(path)
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        self.bring_up(parent(path))?;
        self.above.create(path)
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        if matches!(self.above.open(from), Err(e) if e.kind() == io::ErrorKind::NotFound) {
            if !self.shows(from) {
                return Err(io::ErrorKind::NotFound.into());
            }
            self.copy_up(from)?;
        }
        self.bring_up(parent(to))?;
        self.above.rename(from, to)?;
        self.hidden().insert(from.to_owned());
        Ok(())
    }

    fn sync_directory(&self, path: &str) -> io::Result<()> {
        self.bring_up(path)?;
        self.above.sync_directory(path)
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.open(path)?;
        match self.above.remove(path) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        self.hidden().insert(path.to_owned());
        Ok(())
    }
}
