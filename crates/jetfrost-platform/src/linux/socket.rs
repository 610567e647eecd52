//! Unix sockets.

use std::fs::{self, Permissions};
use std::io;
use std::net::{TcpListener, TcpStream};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::time::Duration;

use nix::errno::Errno;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use crate::{Listening, LocalSockets, Peers, System};

/// A socket in the file system that takes connections.
pub type LocalListener = UnixListener;

/// A connection to one.
pub type LocalStream = UnixStream;

impl LocalSockets for UnixListener {
    /// It is made where nobody else can go, and moved when it is private.
    fn private(path: &Path) -> io::Result<Self> {
        if path.symlink_metadata().is_ok() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let private = tempfile::tempdir_in(parent)?;
        let first = private.path().join("socket");
        let listener = Self::bind(&first)?;
        fs::set_permissions(&first, Permissions::from_mode(0o600))?;
        listener.set_nonblocking(true)?;
        fs::rename(&first, path)?;
        Ok(listener)
    }
}

impl Listening for UnixListener {
    fn wait(&self, most: Duration) -> io::Result<bool> {
        is_readable(self.as_fd(), most)
    }
}

impl Listening for TcpListener {
    fn wait(&self, most: Duration) -> io::Result<bool> {
        is_readable(self.as_fd(), most)
    }
}

fn is_readable(fd: BorrowedFd<'_>, most: Duration) -> io::Result<bool> {
    let most = PollTimeout::try_from(most).unwrap_or(PollTimeout::MAX);
    match poll(&mut [PollFd::new(fd, PollFlags::POLLIN)], most) {
        Ok(ready) => Ok(ready > 0),
        Err(Errno::EINTR) => Ok(false),
        Err(e) => Err(e.into()),
    }
}

impl Peers for System {
    fn account_behind(connection: &TcpStream) -> io::Result<Option<u32>> {
        let (own, other) = (connection.local_addr()?, connection.peer_addr()?);
        // The kernel says of one that has ended that it is root's.
        let is_other_end = |end: &procfs::net::TcpNetEntry| {
            (end.local_address, end.remote_address) == (other, own) && end.state == procfs::net::TcpState::Established
        };
        let ends = procfs::net::tcp().map_err(io::Error::other)?;
        Ok(ends.into_iter().find(is_other_end).map(|end| end.uid))
    }
}
