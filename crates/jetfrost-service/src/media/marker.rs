//! The marker file: no marker, no writes.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::Path;

use jetfrost_image::medium::replace_file;
use nix::errno::Errno;
use serde::{Deserialize, Serialize};

const FILE: &str = "jetfrost-destination.json";
/// The only format so far.
const FORMAT: u32 = 1;
/// A marker is a few lines.
const LONGEST: u64 = 64 << 10;

/// What makes a directory a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Marker {
    format: u32,
    pub(crate) service: String,
    pub(crate) destination: String,
    pub(crate) name: String,
    created: String,
    /// The installation that it was adopted from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    adopted_from: Option<String>,
}

/// Why a directory is not the destination that it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum MarkerError {
    /// No marker: the volume is probably not mounted.
    #[error("the destination's marker is not in {0}: probably its volume is not mounted")]
    Missing(String),
    /// Another installation's or another destination's marker.
    #[error("{0} holds the marker of another destination")]
    Foreign(String),
    /// Nobody could look: the server has too many files open, or too little memory. It says nothing of the destination.
    #[error("{0} could not be looked at: the server has no file or memory to spare")]
    NotLookedAt(String),
}

impl MarkerError {
    /// Whether the destination is known not to be there, or not to be the right one.
    pub(crate) fn is_known(&self) -> bool {
        !matches!(self, Self::NotLookedAt(_))
    }
}

/// Whether the system had nothing left to open a file with.
fn is_exhausted(error: &io::Error) -> bool {
    let errno = error.raw_os_error().map(Errno::from_raw);
    matches!(errno, Some(Errno::EMFILE | Errno::ENFILE | Errno::ENOMEM | Errno::ENOBUFS))
}

impl Marker {
    pub(crate) fn new(service: &str, destination: &str, name: &str, created: &str) -> Self {
        let [service, destination, name, created] = [service, destination, name, created].map(str::to_owned);
        Self { format: FORMAT, service, destination, name, created, adopted_from: None }
    }

    /// Writes the marker durably; there must be none yet.
    pub(crate) fn write(&self, directory: &Path) -> io::Result<()> {
        let mut file = File::create_new(directory.join(FILE))?;
        serde_json::to_writer_pretty(&mut file, self)?;
        file.write_all(b"\n")?;
        file.sync_all()?;
        File::open(directory)?.sync_all()
    }

    /// Puts this marker in place of another installation's, in one step.
    pub(crate) fn take_over(mut self, directory: &Path) -> io::Result<()> {
        self.adopted_from = Self::read(directory).map(|before| before.service);
        replace_file(&directory.join(FILE), &mut OpenOptions::new(), |file| {
            serde_json::to_writer_pretty(&mut *file, &self)?;
            file.write_all(b"\n")
        })
    }

    /// Takes the marker away: the directory is no destination any more.
    pub(crate) fn remove(directory: &Path) -> io::Result<()> {
        std::fs::remove_file(directory.join(FILE))?;
        File::open(directory)?.sync_all()
    }

    /// The marker in a directory, if there is one that can be read.
    pub(crate) fn read(directory: &Path) -> Option<Self> {
        Self::look(directory).ok().flatten()
    }

    /// As [`Marker::read`]; an error is the system's.
    fn look(directory: &Path) -> io::Result<Option<Self>> {
        let mut text = Vec::new();
        File::open(directory.join(FILE))?.take(LONGEST).read_to_end(&mut text)?;
        Ok(serde_json::from_slice(&text).ok().filter(|marker: &Self| marker.format == FORMAT))
    }

    /// Whether there is a marker, readable or not.
    pub(crate) fn is_there(directory: &Path) -> bool {
        directory.join(FILE).symlink_metadata().is_ok()
    }

    /// Checks that the marker is there and the right one.
    pub(crate) fn check(directory: &Path, service: &str, destination: &str) -> Result<(), MarkerError> {
        let shown = || directory.display().to_string();
        match Self::look(directory) {
            Ok(Some(marker)) if marker.service == service && marker.destination == destination => Ok(()),
            Err(error) if is_exhausted(&error) => Err(MarkerError::NotLookedAt(shown())),
            Ok(None) | Err(_) if !Self::is_there(directory) => Err(MarkerError::Missing(shown())),
            _ => Err(MarkerError::Foreign(shown())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_full_file_table_says_nothing_of_a_destination() {
        for errno in [Errno::EMFILE, Errno::ENFILE, Errno::ENOMEM] {
            assert!(is_exhausted(&io::Error::from(errno)), "{errno}");
        }
        assert!(!is_exhausted(&io::Error::from(Errno::ENOENT)) && !is_exhausted(&io::Error::from(Errno::EIO)));
        assert!(!MarkerError::NotLookedAt("/backup".into()).is_known());
    }

    #[test]
    fn a_destination_is_its_own_missing_or_foreign() {
        let directory = tempfile::tempdir().expect("a directory");
        let missing = Marker::check(directory.path(), "s", "d");
        assert!(matches!(missing, Err(MarkerError::Missing(_))));
        Marker::new("s", "d", "shelf", "2026-01-01T00:00:00Z").write(directory.path()).expect("written");
        assert_eq!(Marker::check(directory.path(), "s", "d"), Ok(()));
        for (service, destination) in [("t", "d"), ("s", "e")] {
            assert!(matches!(Marker::check(directory.path(), service, destination), Err(MarkerError::Foreign(_))));
        }
        assert!(Marker::new("t", "e", "other", "").write(directory.path()).is_err(), "a marker is never overwritten");
        Marker::new("t", "e", "other", "").take_over(directory.path()).expect("adopted");
        assert_eq!(Marker::check(directory.path(), "t", "e"), Ok(()));
        assert!(matches!(Marker::check(directory.path(), "s", "d"), Err(MarkerError::Foreign(_))));
    }
}
