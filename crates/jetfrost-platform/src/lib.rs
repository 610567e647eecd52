//! The workstation's border to the operating system: what client and command line need of it, and nothing of what they do with it.
//!
//! Each module is a contract: plain data, and traits that say what is asked. Every system that is supported implements all of them
//! in a folder of its own (`linux`), which is the only place that knows its calls; a system that lacks one does not compile. What
//! every implementation has to do, whatever the system, is held by one conformance suite (`tests/conformance.rs`).
//!
//! Errors are [`std::io::Error`]: callers tell kinds apart, never numbers. [`reason`] says one in words.

mod attributes;
mod directory;
mod file;
mod machine;
mod metadata;
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
mod volume;
mod watch;

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "linux")]
use linux as system;

pub use attributes::ExtendedAttributes;
pub use directory::OpenDirectory;
pub use file::{FileContent, Stretch};
pub use machine::{Accounts, Machine};
pub use metadata::{FileKind, Metadata, Paths, Time};
pub use network::{Link, LinkKind, Network};
pub use notice::Notices;
pub use open::{NewDirectory, Opening};
pub use power::Power;
pub use priority::Priority;
pub use program::Programs;
pub use registration::{Registration, Started};
pub use restored::{MetadataTarget, Special};
pub use secrets::{Keeper, Secrets};
pub use snapshot::Snapshot;
pub use socket::{Listening, LocalSockets, Peers};
pub use system::{
    Directory, LocalListener, LocalStream, NamedIn, Node, Restored, TakenSnapshot, Watch, is_medium_error, make_link,
    make_special, name_bytes, os_str, path_bytes, path_of, reason, rename_new,
};
pub use volume::{Devices, DiskDevice, Volumes};
pub use watch::{ChangeWaiter, ChangeWatch, Changes, Watched};

/// The system that this program runs on.
#[derive(Debug, Clone, Copy)]
pub struct System;
