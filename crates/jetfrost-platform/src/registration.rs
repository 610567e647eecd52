//! Programs that the system starts by itself and keeps running.

use std::io;
use std::path::{Path, PathBuf};

/// For whom the system starts a program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Started<'a> {
    /// For the whole machine.
    ForMachine,
    /// For this user.
    ForUser,
    /// For the machine whose files lie below this directory, when it is started.
    ForMachineBelow(&'a Path),
}

/// What starts programs.
pub trait Registration {
    /// Has the system start a program: now, unless the machine is another one, and each time. `description` is in the system's own
    /// form. Returns where that was written.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::Unsupported`] when nothing here starts programs.
    fn register(name: &str, description: &str, started: Started<'_>) -> io::Result<PathBuf>;

    /// Ends it, and takes it away. It is no error when there is none.
    ///
    /// # Errors
    /// As [`Self::register`].
    fn unregister(name: &str, started: Started<'_>) -> io::Result<()>;
}
