//! A whole machine: everything of a point into an empty directory or a mounted root, or a disk onto a device or into an image file; and what
//! came of it, with evidence.

mod before;
mod boot;
mod checklist;
mod disks;
mod evidence;
mod files;

use jetfrost_wire::restore::{CheckedItem, CheckedOff};
use jetfrost_wire::{RestoreId, calls};

pub use before::{Forgone, Lost};
pub use checklist::{Checklist, Item, State};
pub use disks::{ToRead, check_disk, forgone_of_disk, measure_disk};
pub use evidence::check;
pub use files::{Found, forgone, look_at, measure, rebuild};

use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::store_source::StoreSource;

type Result<T> = std::result::Result<T, ClientError>;

/// What people call the machine: its workstation's name at the service, or what it called itself.
#[must_use]
pub fn name_of(browser: &Browser, point: &OpenPoint) -> String {
    match &browser.source {
        StoreSource::Service { of, .. } => of.name.clone(),
        StoreSource::Directory(_) => point.body.host.clone(),
    }
}

/// Puts on record what was found after a restore, without names of files.
///
/// # Errors
/// What the service said.
pub fn put_on_record(browser: &Browser, restore: &RestoreId, list: &Checklist) -> Result<()> {
    let StoreSource::Service { api, .. } = &browser.source else { return Ok(()) };
    let items =
        list.items.iter().map(|item| CheckedItem { what: item.what.clone(), state: item.state, found: item.found.clone() });
    api.call_with(&calls::check_off(restore), &CheckedOff { items: items.collect() }).map(drop)
}
