//! The marker file: no marker, no writes.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use serde::{Deserialize, Serialize};

const FILE: &str = "jetfrost-destination.json";

/// What makes a directory a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Marker {
    format: u32,
    service: String,
    destination: String,
    name: String,
    created: String,
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
}

impl Marker {
    pub(crate) fn new(service: &str, destination: &str, name: &str, created: &str) -> Self {
        Self { format: 1, service: service.into(), destination: destination.into(), name: name.into(), created: created.into() }
    }

    /// Writes the marker durably; there must be none yet.
    pub(crate) fn write(&self, directory: &Path) -> io::Result<()> {
        let mut file = File::create_new(directory.join(FILE))?;
        serde_json::to_writer_pretty(&mut file, self)?;
        file.write_all(b"\n")?;
        file.sync_all()?;
        File::open(directory)?.sync_all()
    }

    /// Whether a marker is in the directory, and whose.
    pub(crate) fn find(directory: &Path) -> Option<String> {
        let bytes = std::fs::read(directory.join(FILE)).ok()?;
        Some(serde_json::from_slice::<Self>(&bytes).map_or_else(|_| "unreadable".into(), |marker| marker.service))
    }

    /// Checks that the marker is there and the right one.
    pub(crate) fn check(directory: &Path, service: &str, destination: &str) -> Result<(), MarkerError> {
        let shown = || directory.display().to_string();
        let bytes = std::fs::read(directory.join(FILE)).map_err(|_| MarkerError::Missing(shown()))?;
        match serde_json::from_slice::<Self>(&bytes) {
            Ok(marker) if marker.service == service && marker.destination == destination => Ok(()),
            _ => Err(MarkerError::Foreign(shown())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
    }
}
