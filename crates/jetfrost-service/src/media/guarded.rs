//! A medium that looks for the destination's marker before every write.

use std::io;
use std::sync::Arc;

use jetfrost_image::medium::{DirectoryMedium, Listed, Medium, StoredFile, WritableFile};

use super::{Marker, Place};

/// Keeps an unmounted volume from being filled as if it were an empty one.
#[derive(Debug)]
pub(super) struct GuardedMedium {
    inner: DirectoryMedium,
    place: Place,
    service: String,
}

impl GuardedMedium {
    pub(super) fn new(inner: DirectoryMedium, place: Place, service: String) -> Self {
        Self { inner, place, service }
    }

    fn guard(&self) -> io::Result<()> {
        Marker::check(&self.place.directory, &self.service, self.place.id.as_str()).map_err(io::Error::other)
    }
}

impl Medium for GuardedMedium {
    fn block(&self) -> u64 {
        self.inner.block()
    }

    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        self.inner.list(directory)
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        self.inner.directories(directory)
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        self.inner.open(path)
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        self.guard()?;
        self.inner.make_directory(path)
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        self.guard()?;
        self.inner.create(path)
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        self.guard()?;
        self.inner.rename(from, to)
    }

    fn sync_directory(&self, path: &str) -> io::Result<()> {
        self.inner.sync_directory(path)
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.guard()?;
        self.inner.remove(path)
    }
}
