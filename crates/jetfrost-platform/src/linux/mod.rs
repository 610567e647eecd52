//! Linux.

mod directory;
mod file;
mod machine;
mod names;
mod network;
mod notice;
mod open;
mod power;
mod priority;
mod program;
mod registration;
mod restored;
mod secrets;
mod snapshot;
mod socket;
mod stat;
mod volume;
mod watch;

use std::io;

use nix::errno::Errno;

pub use directory::{Directory, NamedIn, Node};
pub use names::{name_bytes, os_str, path_bytes, path_of};
pub use restored::{Restored, make_link, make_special, rename_new};
pub use snapshot::TakenSnapshot;
pub use socket::{LocalListener, LocalStream};
pub use watch::Watch;

/// Whether a medium could not read or write what is on it.
#[must_use]
pub fn is_medium_error(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::EIO as i32)
}

/// What went wrong, in the system's words, without its number.
#[must_use]
pub fn reason(error: &io::Error) -> String {
    error.raw_os_error().map_or_else(|| error.to_string(), |number| Errno::from_raw(number).desc().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_disk_cannot_read_is_told_from_what_a_person_may_not_read() {
        let error = |errno: Errno| io::Error::from_raw_os_error(errno as i32);
        assert!(is_medium_error(&error(Errno::EIO)));
        assert!(
            ![Errno::EACCES, Errno::ENOENT, Errno::ESTALE, Errno::ENOSPC].into_iter().any(|errno| is_medium_error(&error(errno)))
        );
        assert!(!is_medium_error(&io::Error::from(io::ErrorKind::UnexpectedEof)));
        assert_eq!(reason(&error(Errno::ENOSPC)), "No space left on device");
    }
}
