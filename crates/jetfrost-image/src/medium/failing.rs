//! A medium that fails when it is told to: for tests of full disks and bad ones.

use std::io::{self, Write};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Listed, Medium, StoredFile, WritableFile};

/// What is to fail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Failing {
    /// Reading bytes of files.
    Reads,
    /// Everything that changes something, but for removing.
    Writes,
}

/// Passes everything on to another medium, until it is told to fail.
#[derive(Debug, Clone)]
pub struct FailingMedium {
    inner: Arc<dyn Medium>,
    plan: Arc<Mutex<Option<Plan>>>,
}

#[derive(Debug, Clone)]
struct Plan {
    what: Failing,
    /// Only paths with this in them.
    within: String,
    error: io::ErrorKind,
    /// So many are let through first.
    spare: u64,
}

impl FailingMedium {
    /// A medium that passes everything on to `inner`.
    #[must_use]
    pub fn new(inner: Arc<dyn Medium>) -> Self {
        Self { inner, plan: Arc::default() }
    }

    /// From now on, after `spare` more, everything of this kind fails on paths with `within` in them.
    pub fn fail(&self, what: Failing, within: &str, error: io::ErrorKind, spare: u64) {
        *self.lock() = Some(Plan { what, within: within.to_owned(), error, spare });
    }

    /// From now on nothing fails.
    pub fn recover(&self) {
        *self.lock() = None;
    }

    fn lock(&self) -> MutexGuard<'_, Option<Plan>> {
        self.plan.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn check(&self, what: Failing, path: &str) -> io::Result<()> {
        match &mut *self.lock() {
            Some(plan) if plan.what == what && path.contains(&plan.within) => match plan.spare.checked_sub(1) {
                Some(left) => {
                    plan.spare = left;
                    Ok(())
                }
                None => Err(plan.error.into()),
            },
            _ => Ok(()),
        }
    }
}

impl Medium for FailingMedium {
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
        Ok(Arc::new(Reading { inner: self.inner.open(path)?, medium: self.clone(), path: path.to_owned() }))
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        self.check(Failing::Writes, path)?;
        self.inner.make_directory(path)
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        self.check(Failing::Writes, path)?;
        Ok(Box::new(Writing { inner: self.inner.create(path)?, medium: self.clone(), path: path.to_owned() }))
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        self.check(Failing::Writes, to)?;
        self.inner.rename(from, to)
    }

    fn sync_directory(&self, path: &str) -> io::Result<()> {
        self.check(Failing::Writes, path)?;
        self.inner.sync_directory(path)
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.inner.remove(path)
    }
}

#[derive(Debug)]
struct Reading {
    inner: Arc<dyn StoredFile>,
    medium: FailingMedium,
    path: String,
}

impl StoredFile for Reading {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_exact_at(&self, buf: &mut [u8], offset: u64) -> io::Result<()> {
        self.medium.check(Failing::Reads, &self.path)?;
        self.inner.read_exact_at(buf, offset)
    }
}

struct Writing {
    inner: Box<dyn WritableFile>,
    medium: FailingMedium,
    path: String,
}

impl Write for Writing {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.medium.check(Failing::Writes, &self.path)?;
        self.inner.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl WritableFile for Writing {
    fn sync(&mut self) -> io::Result<()> {
        self.medium.check(Failing::Writes, &self.path)?;
        self.inner.sync()
    }
}
