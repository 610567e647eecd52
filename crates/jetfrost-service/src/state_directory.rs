//! The service's own directory: what lies in it by which name.

use std::fs;
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;

/// The records.
pub(crate) const RECORDS: &str = "records.sqlite";
/// The key that signs what workstations are shown, its own certificate, and what leads to it from identities before it. It is one
/// file, so that it is whole or not there.
pub(crate) const IDENTITY: &str = "identity.pem";
/// The certificate that workstations knew the service by before 0.3, and its key.
pub(crate) const OLD_CERTIFICATE: &str = "certificate.pem";
pub(crate) const OLD_CERTIFICATE_KEY: &str = "certificate-key.pem";
/// Programs for workstations, which anybody may fetch.
pub(crate) const DOWNLOADS: &str = "downloads";
/// Says that the points on the destinations are to be compared with the records.
pub(crate) const RECONCILE: &str = "reconcile";

/// Makes the state directory, for the service alone: also one that was there, with all that is in it.
pub(crate) fn make(state: &Path) -> io::Result<()> {
    fs::DirBuilder::new().recursive(true).mode(0o700).create(state)?;
    fs::set_permissions(state, fs::Permissions::from_mode(0o700))?;
    for entry in fs::read_dir(state)? {
        let entry = entry?;
        let mode = if entry.file_type()?.is_dir() { 0o700 } else { 0o600 };
        if !entry.file_type()?.is_symlink() {
            fs::set_permissions(entry.path(), fs::Permissions::from_mode(mode))?;
        }
    }
    Ok(())
}
