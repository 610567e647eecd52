//! A medium in memory, for tests.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};
use std::sync::{Arc, Mutex, MutexGuard};

use super::{Listed, Medium, StoredFile, WritableFile};

/// Keeps files in memory; everything is durable at once.
#[derive(Debug, Clone, Default)]
pub struct MemoryMedium(Arc<Mutex<Files>>);

/// Files and directories by path.
#[derive(Debug, Clone, Default)]
pub(super) struct Files {
    pub(super) files: BTreeMap<String, Vec<u8>>,
    pub(super) directories: BTreeSet<String>,
}

impl MemoryMedium {
    pub(super) fn from_files(files: Files) -> Self {
        Self(Arc::new(Mutex::new(files)))
    }

    pub(super) fn to_files(&self) -> Files {
        self.lock().clone()
    }

    fn lock(&self) -> MutexGuard<'_, Files> {
        self.0.lock().expect("no operation panics")
    }

    /// Every file's path and bytes.
    #[must_use]
    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        self.lock().files.clone()
    }

    /// Puts bytes in place of a file's, as a fault would.
    pub fn overwrite(&self, path: &str, bytes: Vec<u8>) {
        self.lock().files.insert(path.to_owned(), bytes);
    }
}

impl Files {
    pub(super) fn list(&self, directory: &str) -> Vec<Listed> {
        self.files
            .iter()
            .filter_map(|(path, bytes)| Some(Listed { name: child(path, directory)?.to_owned(), len: bytes.len() as u64 }))
            .collect()
    }

    pub(super) fn directories(&self, directory: &str) -> Vec<String> {
        self.directories.iter().filter_map(|path| child(path, directory).map(str::to_owned)).collect()
    }

    pub(super) fn has_directory(&self, path: &str) -> bool {
        path.is_empty() || self.directories.contains(path)
    }

    pub(super) fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        let bytes = self.files.get(path).ok_or(io::ErrorKind::NotFound)?;
        Ok(Arc::new(Open(bytes.clone())))
    }
}

fn child<'p>(path: &'p str, directory: &str) -> Option<&'p str> {
    let name = if directory.is_empty() { path } else { path.strip_prefix(directory)?.strip_prefix('/')? };
    (!name.contains('/')).then_some(name)
}

pub(super) fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(parent, _)| parent)
}

impl Medium for MemoryMedium {
    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        Ok(self.lock().list(directory))
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        Ok(self.lock().directories(directory))
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        self.lock().open(path)
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        self.lock().directories.insert(path.to_owned());
        Ok(())
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        let mut files = self.lock();
        if !files.has_directory(parent(path)) {
            return Err(io::ErrorKind::NotFound.into());
        }
        files.files.insert(path.to_owned(), Vec::new());
        Ok(Box::new(Writing { medium: self.clone(), path: path.to_owned() }))
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        let mut files = self.lock();
        if !files.has_directory(parent(to)) {
            return Err(io::ErrorKind::NotFound.into());
        }
        let bytes = files.files.remove(from).ok_or(io::ErrorKind::NotFound)?;
        files.files.insert(to.to_owned(), bytes);
        Ok(())
    }

    fn sync_directory(&self, _: &str) -> io::Result<()> {
        Ok(())
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.lock().files.remove(path).map(drop).ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

#[derive(Debug)]
struct Open(Vec<u8>);

impl StoredFile for Open {
    fn len(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_exact_at(&self, buf: &mut [u8], offset: u64) -> io::Result<()> {
        let from = usize::try_from(offset).map_err(|_| io::ErrorKind::UnexpectedEof)?;
        let bytes = self.0.get(from..).and_then(|rest| rest.get(..buf.len())).ok_or(io::ErrorKind::UnexpectedEof)?;
        buf.copy_from_slice(bytes);
        Ok(())
    }
}

struct Writing {
    medium: MemoryMedium,
    path: String,
}

impl Write for Writing {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.medium.lock().files.get_mut(&self.path).ok_or(io::ErrorKind::NotFound)?.extend(buf);
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl WritableFile for Writing {
    fn sync(&mut self) -> io::Result<()> {
        Ok(())
    }
}
