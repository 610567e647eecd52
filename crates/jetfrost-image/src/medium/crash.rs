//! A medium that loses power: for the crash suites.

use std::io::{self, Write};
use std::sync::{Arc, Mutex, MutexGuard};

use super::memory::{Files, parent};
use super::{Listed, Medium, MemoryMedium, StoredFile, WritableFile};

/// Keeps what a reader sees ("live") apart from what a loss of power leaves ("durable"), and fails for good after a
/// given number of steps, in the middle of a write if that is where it falls.
#[derive(Debug, Clone)]
pub struct CrashMedium(Arc<Mutex<State>>);

#[derive(Debug)]
struct State {
    live: Files,
    durable: Files,
    steps_left: u64,
}

impl CrashMedium {
    /// A medium that fails after `steps` changing operations.
    #[must_use]
    pub fn failing_after(steps: u64) -> Self {
        Self(Arc::new(Mutex::new(State { live: Files::default(), durable: Files::default(), steps_left: steps })))
    }

    /// A medium that holds, durably, what another does, and fails after `steps` changing operations.
    #[must_use]
    pub fn holding(what: &MemoryMedium, steps: u64) -> Self {
        let live = what.to_files();
        let mut durable = live.clone();
        durable.files.extend(live.files.values().map(|bytes| (synced_key(bytes), bytes.clone())));
        Self(Arc::new(Mutex::new(State { live, durable, steps_left: steps })))
    }

    /// What is there after the loss of power, if nothing that was not synced made it.
    #[must_use]
    pub fn survivor_of_the_strict_kind(&self) -> MemoryMedium {
        let mut files = self.lock().durable.clone();
        files.files.retain(|path, _| parent(path) != SYNCED);
        MemoryMedium::from_files(files)
    }

    /// What is there after the loss of power, if everything that was not synced happened to make it.
    #[must_use]
    pub fn survivor_of_the_lucky_kind(&self) -> MemoryMedium {
        MemoryMedium::from_files(self.lock().live.clone())
    }

    /// Whether the power went.
    #[must_use]
    pub fn has_failed(&self) -> bool {
        self.lock().steps_left == 0
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().expect("no operation panics")
    }

    fn step(&self) -> io::Result<MutexGuard<'_, State>> {
        let mut state = self.lock();
        if state.steps_left == 0 {
            return Err(io::Error::other("the power went"));
        }
        state.steps_left -= 1;
        Ok(state)
    }
}

impl Medium for CrashMedium {
    fn list(&self, directory: &str) -> io::Result<Vec<Listed>> {
        Ok(self.lock().live.list(directory))
    }

    fn directories(&self, directory: &str) -> io::Result<Vec<String>> {
        Ok(self.lock().live.directories(directory))
    }

    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>> {
        self.lock().live.open(path)
    }

    fn make_directory(&self, path: &str) -> io::Result<()> {
        let mut state = self.step()?;
        state.live.directories.insert(path.to_owned());
        state.durable.directories.insert(path.to_owned());
        Ok(())
    }

    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>> {
        let mut state = self.step()?;
        if !state.live.has_directory(parent(path)) {
            return Err(io::ErrorKind::NotFound.into());
        }
        state.live.files.insert(path.to_owned(), Vec::new());
        Ok(Box::new(Writing { medium: self.clone(), path: path.to_owned() }))
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        let mut state = self.step()?;
        let bytes = state.live.files.remove(from).ok_or(io::ErrorKind::NotFound)?;
        state.live.files.insert(to.to_owned(), bytes);
        Ok(())
    }

    /// Makes the names of a directory durable, each with as many bytes as were synced (none, if never).
    fn sync_directory(&self, path: &str) -> io::Result<()> {
        let mut state = self.step()?;
        let in_directory = |files: &Files| -> Vec<String> { files.files.keys().filter(|p| parent(p) == path).cloned().collect() };
        for gone in in_directory(&state.durable) {
            state.durable.files.remove(&gone);
        }
        for name in in_directory(&state.live) {
            let bytes = state.live.files[&name].clone();
            let synced = state.durable.files.values().any(|b| *b == bytes) || state.synced(&bytes);
            state.durable.files.insert(name, if synced { bytes } else { Vec::new() });
        }
        Ok(())
    }

    fn remove(&self, path: &str) -> io::Result<()> {
        self.step()?.live.files.remove(path).map(drop).ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// Bytes whose `sync` returned are kept under this directory of the durable side until a name leads to them.
const SYNCED: &str = "(synced)";

impl State {
    fn synced(&self, bytes: &[u8]) -> bool {
        self.durable.files.contains_key(&synced_key(bytes))
    }
}

fn synced_key(bytes: &[u8]) -> String {
    format!("{SYNCED}/{}", blake3::hash(bytes).to_hex())
}

struct Writing {
    medium: CrashMedium,
    path: String,
}

impl Write for Writing {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let half = buf.len().div_ceil(2);
        let mut state = self.medium.step()?;
        let file = state.live.files.get_mut(&self.path).ok_or(io::ErrorKind::NotFound)?;
        file.extend(&buf[..half]);
        Ok(half)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl WritableFile for Writing {
    fn sync(&mut self) -> io::Result<()> {
        let mut state = self.medium.step()?;
        let bytes = state.live.files.get(&self.path).cloned().ok_or(io::ErrorKind::NotFound)?;
        state.durable.files.insert(synced_key(&bytes), bytes);
        Ok(())
    }
}
