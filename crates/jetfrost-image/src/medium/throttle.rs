//! A medium that is slower than the one behind it: a network in between, or an object store.

use std::io::{self, Write};
use std::sync::Arc;
use std::time::Duration;

use super::{Listed, Medium, StoredFile, WritableFile};

/// Every call takes a while, and bytes pass at a rate.
#[derive(Debug, Clone)]
pub struct ThrottledMedium {
    inner: Arc<dyn Medium>,
    pace: Pace,
}

#[derive(Debug, Clone, Copy)]
struct Pace {
    each_call: Duration,
    bytes_per_second: u64,
}

impl Pace {
    fn wait(self, bytes: usize) {
        let passing = Duration::from_secs_f64(bytes as f64 / self.bytes_per_second as f64);
        std::thread::sleep(self.each_call + passing);
    }
}

impl ThrottledMedium {
    /// Passes everything on to `inner`, not faster than this.
    #[must_use]
    pub fn new(inner: Arc<dyn Medium>, each_call: Duration, bytes_per_second: u64) -> Self {
        Self { inner, pace: Pace { each_call, bytes_per_second } }
    }

    fn call(&self) -> &dyn Medium {
        self.pace.wait(0);
        &*self.inner
    }
}

impl Medium for ThrottledMedium {
    fn block(&self) -> u64 {
        self.inner.block()
    }

    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        self.call().list(directory)
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        self.call().directories(directory)
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        Ok(Arc::new(Reading { inner: self.call().open(path)?, pace: self.pace }))
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        self.call().make_directory(path)
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        Ok(Box::new(Writing { inner: self.call().create(path)?, pace: self.pace }))
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        self.call().rename(from, to)
    }

    fn sync_directory(&self, path: &str) -> io::Result<()> {
        self.call().sync_directory(path)
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.call().remove(path)
    }
}

#[derive(Debug)]
struct Reading {
    inner: Arc<dyn StoredFile>,
    pace: Pace,
}

impl StoredFile for Reading {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_exact_at(&self, buf: &mut [u8], offset: u64) -> io::Result<()> {
        self.pace.wait(buf.len());
        self.inner.read_exact_at(buf, offset)
    }
}

struct Writing {
    inner: Box<dyn WritableFile>,
    pace: Pace,
}

impl Write for Writing {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(buf)?;
        self.pace.wait(written);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl WritableFile for Writing {
    fn sync(&mut self) -> io::Result<()> {
        self.pace.wait(0);
        self.inner.sync()
    }
}
