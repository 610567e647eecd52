//! A file that only one process works with.

use std::fs::{File, TryLockError};

/// A locked file (`flock`, or what the system has for it). Dropped, it is unlocked and not merely closed: a program that another
/// thread is just starting has the file open as well until it begins, and would hold the lock for that long.
#[derive(Debug)]
pub struct FileLock(File);

impl FileLock {
    /// Locks a file.
    ///
    /// # Errors
    /// `WouldBlock` when another process, or another place in this one, has it.
    pub fn try_new(file: File) -> Result<Self, TryLockError> {
        file.try_lock()?;
        Ok(Self(file))
    }
}

impl Drop for FileLock {
    fn drop(&mut self) {
        // Closing unlocks it as well, only later.
        let _ = self.0.unlock();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lock_ends_with_its_holder_also_while_a_child_that_starts_has_the_file_open() {
        let directory = tempfile::tempdir().expect("a directory");
        let open = || File::create(directory.path().join("lock")).expect("open");
        let held = FileLock::try_new(open()).expect("nobody has it");
        assert!(matches!(FileLock::try_new(open()), Err(TryLockError::WouldBlock)));
        let of_a_child = held.0.try_clone().expect("as a fork does it");
        drop(held);
        FileLock::try_new(open()).expect("it is free again");
        drop(of_a_child);
    }
}
