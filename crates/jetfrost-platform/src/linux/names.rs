//! Names: any bytes but `/` and zero.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// The bytes of a name, as they are kept.
#[must_use]
pub fn name_bytes(name: &OsStr) -> &[u8] {
    name.as_bytes()
}

/// The bytes of a path, as they are kept.
#[must_use]
pub fn path_bytes(path: &Path) -> &[u8] {
    path.as_os_str().as_bytes()
}

/// The name that was kept as these bytes.
#[must_use]
pub fn os_str(bytes: &[u8]) -> &OsStr {
    OsStr::from_bytes(bytes)
}

/// The path that was kept as these bytes.
#[must_use]
pub fn path_of(bytes: &[u8]) -> PathBuf {
    os_str(bytes).into()
}
