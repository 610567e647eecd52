//! Sockets that only one user of this machine can open, and waiting for whoever connects.

use std::io;
use std::net::TcpStream;
use std::path::Path;
use std::time::Duration;

/// A socket in the file system.
pub trait LocalSockets: Sized {
    /// Makes a socket that only this user can open; it is never open to others, not even for a moment. Taking a connection does not
    /// wait.
    ///
    /// # Errors
    /// [`io::ErrorKind::AlreadyExists`] when something has this name; what the system says.
    fn private(path: &Path) -> io::Result<Self>;
}

/// Something that takes connections.
pub trait Listening {
    /// Waits until somebody connects, but not longer than this. Says whether somebody has.
    ///
    /// # Errors
    /// What the system says.
    fn wait(&self, most: Duration) -> io::Result<bool>;
}

/// Who is at the other end of a connection within this machine.
pub trait Peers {
    /// The account whose program has the other end of a connection over the loopback address; none when that cannot be told, as of one
    /// that has ended.
    ///
    /// # Errors
    /// What the system says.
    fn account_behind(connection: &TcpStream) -> io::Result<Option<u32>>;
}
