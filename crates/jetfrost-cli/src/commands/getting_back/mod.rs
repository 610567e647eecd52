//! Getting things back: files, disks, what is left of a damaged store.

pub(crate) mod attach;
pub(crate) mod check;
pub(crate) mod disks;
pub(crate) mod drill;
pub(crate) mod exceptions;
pub(crate) mod look;
pub(crate) mod points;
pub(crate) mod restore;
pub(crate) mod restore_disk;
pub(crate) mod salvage;
