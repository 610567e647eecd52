//! Restoring what somebody ordered from elsewhere. Nothing goes in the place of anything, through a link, or among what is there already:
//! whoever has the store's passphrase need not have more rights on the machine than its agent leaves to everybody.

use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_platform::{FileKind, Metadata, MetadataTarget, OpenDirectory, Restored};
use jetfrost_wire::RestoreOrderId;

use super::journal::partial_name;
use super::pinned::PinnedFolders;
use super::place::time_in_names;
use super::{RestoreReport, Result, Rights, Target, Wish, restore_for};
use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::progress::Meter;

/// What a folder keeps of the permissions of the one that it is made in.
const PERMISSIONS: u32 = 0o777;

/// Restores paths for an order: beside where they were, or into a folder of its own in `into`.
pub(crate) fn restore_ordered(
    browser: &Browser,
    point: &OpenPoint,
    paths: Vec<PathBuf>,
    into: Option<&Path>,
    order: RestoreOrderId,
    meter: &Arc<Meter>,
) -> Result<RestoreReport> {
    let target = match into {
        None => Target::Beside,
        Some(into) => {
            let name = format!("Restored {}", time_in_names(&point.head));
            let own = into.join(&name);
            make_own(&own, into).map_err(ClientError::file("making a folder in", into))?;
            Target::Into(own)
        }
    };
    let wish = Wish { pinned: true, ..Wish::paths(paths, target).rights(Rights::LeaveOut) };
    restore_for(browser, point, &wish, Some(order), meter)
}

/// Makes a folder that is for whoever has the one that it is in. One that is there by then, of an earlier order, is gone on with.
fn make_own(own: &Path, within: &Path) -> io::Result<()> {
    let folders = PinnedFolders::default();
    let outer = folders.folder(within)?.metadata()?;
    match folders.metadata_of(own) {
        Ok(Metadata { kind: Some(FileKind::Directory), .. }) => return Ok(()),
        Ok(_) => return Err(ErrorKind::AlreadyExists.into()),
        Err(error) if error.kind() == ErrorKind::NotFound => folders.make(own, &own.with_file_name(partial_name(0)), |_| ())?,
        Err(error) => return Err(error),
    }
    let node = folders.node(own)?;
    let made = Restored::Node(&node);
    // An owner only root can give; for others it is theirs already.
    if node.metadata()?.uid != outer.uid {
        made.set_owner(outer.uid, outer.gid)?;
    }
    made.set_mode(outer.mode & PERMISSIONS)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_folder_for_an_order_is_made_once_and_neither_through_a_link_nor_in_the_place_of_anything() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let at = |path: &str| root.join(path);
        fs::create_dir_all(at("tove/maps")).expect("made");
        fs::create_dir(at("system")).expect("made");
        make_own(&at("tove/Restored"), &at("tove")).expect("made");
        fs::write(at("tove/Restored/letter"), "here").expect("written");
        make_own(&at("tove/Restored"), &at("tove")).expect("gone on with");
        assert!(at("tove/Restored/letter").exists());

        symlink(at("system"), at("tove/link")).expect("linked");
        make_own(&at("tove/link/Restored"), &at("tove/link")).expect_err("a link on the way");
        symlink(at("system"), at("tove/maps/Restored")).expect("linked");
        make_own(&at("tove/maps/Restored"), &at("tove/maps")).expect_err("a link in its place");
        assert_eq!(fs::read_dir(at("system")).expect("listed").count(), 0);
        make_own(&at("gone/Restored"), &at("gone")).expect_err("no such folder");
        assert!(!at("gone").exists());
    }
}
