//! Everything of a files point, into an empty directory or a mounted root.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_image::format::EntryKind;
use jetfrost_image::tree::expand_parts;
use jetfrost_platform::{Directory, MetadataTarget, OpenDirectory, Restored};

use super::Result;
use super::before::{Forgone, Lost, MEASURED, forgone_by, read_for_a_while};
use crate::browse::{Browser, OpenPoint, find};
use crate::compare::{Change, compare};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::restore::{Owners, RestoreReport, Rights, Wish, others_in, restore, unfinished};
use crate::walk_tree::{Met, go_through};

/// What is at the directory that a machine is to be rebuilt in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Found {
    /// Nothing is there, or an empty directory.
    Empty,
    /// A restore of this point that did not come to its end; it goes on.
    Unfinished,
    /// A restore of another point that did not come to its end: two points in one directory would be neither.
    OfAnotherPoint,
    /// Something else: how many names, and some of them.
    Taken(usize, Vec<PathBuf>),
}

/// Names that are shown of what is in the way.
const SHOWN: usize = 5;

/// Looks at the directory that a machine is to be rebuilt in.
///
/// # Errors
/// [`ClientError::File`].
pub fn look_at(target: &Path, point: &OpenPoint) -> Result<Found> {
    look(target, &point.head.id.to_string())
}

fn look(target: &Path, point: &str) -> Result<Found> {
    let mut names = match others_in(target) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Found::Empty),
        other => other.map_err(ClientError::file("looking into", target))?,
    };
    match unfinished(target).map_err(ClientError::file("looking into", target))? {
        None => {}
        Some(begun) if begun == point => return Ok(Found::Unfinished),
        // It was killed before it noted which point it is of, and restored anything.
        Some(begun) if begun.is_empty() && names.is_empty() => return Ok(Found::Unfinished),
        Some(_) => return Ok(Found::OfAnotherPoint),
    }
    let count = names.len();
    names.truncate(SHOWN);
    Ok(if count == 0 { Found::Empty } else { Found::Taken(count, names) })
}

/// What is forgone by choosing a point instead of the newest; none when it is the newest.
///
/// # Errors
/// What the service said.
pub fn forgone(browser: &Browser, point: &OpenPoint, meter: &Arc<Meter>) -> Result<Option<Forgone>> {
    forgone_by(browser, point, |newest| {
        let compared = compare(browser, point, newest, b"/", meter)?;
        if !compared.unreadable.is_empty() {
            return Err(ClientError::Damaged);
        }
        let new = compared.differences.iter().filter(|one| matches!(one.change, Change::Added | Change::Changed));
        Ok(new.fold(Lost::default(), |lost, one| Lost { files: lost.files + one.files, bytes: lost.bytes + one.after }))
    })
}

/// Bytes a second at which contents of this point can be read now, as measured; none where there is too little to measure.
///
/// # Errors
/// What the service said.
pub fn measure(browser: &Browser, point: &OpenPoint, meter: &Meter) -> Result<Option<f64>> {
    let mut names = Vec::new();
    let mut wanted = 0;
    let gathered = go_through(browser, &point.body.root, meter, |met| {
        let Met::Entry(_, entry) = met else { return Ok(()) };
        if let (EntryKind::File, Some(content)) = (entry.kind, &entry.content) {
            let expanded = expand_parts(&browser.source(), content, &mut |part| {
                names.extend(part.name);
                wanted += part.len;
                Ok(())
            });
            // What is lost is told when it is to be restored.
            expanded.or_else(|error| if error.is_loss() { Ok(()) } else { Err(error) })?;
        }
        // Enough is known: it is no error of anybody.
        if wanted < MEASURED { Ok(()) } else { Err(ClientError::Stopped) }
    });
    match gathered {
        Err(ClientError::Stopped) if wanted >= MEASURED => {}
        other => other?,
    }
    read_for_a_while(browser, &names)
}

/// Whose the files become: by their numbers where the point holds a system with accounts of its own, since those of the machine that this
/// runs on are others; else by their names.
///
/// # Errors
/// What the service said; [`ClientError::Damaged`].
pub(super) fn owners(browser: &Browser, point: &OpenPoint) -> Result<Owners> {
    match find(&browser.source(), point, b"/etc/passwd") {
        Ok(Some(entry)) if entry.kind == EntryKind::File => Ok(Owners::ByNumber),
        Ok(_) | Err(ClientError::NoPath(_)) => Ok(Owners::ByName),
        // The listing that would tell is lost; what included everything is a system.
        Err(error) if error.is_loss() => {
            let is_system = point.body.folders.iter().any(|folder| &folder[..] == b"/");
            Ok(if is_system { Owners::ByNumber } else { Owners::ByName })
        }
        Err(error) => Err(error),
    }
}

/// Restores everything of a point into an empty directory, or goes on with that. A system gets the directories that it needs to start, should
/// its backup have left them out.
///
/// # Errors
/// As [`restore`].
pub fn rebuild(browser: &Browser, point: &OpenPoint, target: &Path, meter: &Arc<Meter>) -> Result<RestoreReport> {
    let owners = owners(browser, point)?;
    let report = restore(browser, point, &Wish::everything(target).rights(Rights::Keep).owners(owners), meter)?;
    if owners == Owners::ByNumber {
        make_mount_points(target).map_err(ClientError::file("making directories in", target))?;
    }
    Ok(report)
}

/// What a system mounts before anything of its own runs, with permissions: without these directories it does not start.
pub(super) const MOUNT_POINTS: [(&str, u32); 5] =
    [("dev", 0o755), ("proc", 0o555), ("run", 0o755), ("sys", 0o555), ("tmp", 0o1777)];

fn make_mount_points(target: &Path) -> std::io::Result<()> {
    for (name, mode) in MOUNT_POINTS {
        let path = target.join(name);
        if path.symlink_metadata().is_err() {
            fs::create_dir(&path)?;
            let made = Directory::held(target)?.node(name.as_bytes())?;
            Restored::Node(&made).set_mode(mode)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use jetfrost_platform::{Paths, System};

    use super::*;

    #[test]
    fn a_system_gets_the_directories_that_it_mounts_things_on_and_keeps_those_that_it_has() {
        let target = tempfile::tempdir().expect("a directory");
        let target = &target.path().canonicalize().expect("there");
        fs::create_dir_all(target.join("dev/pts")).expect("made");
        make_mount_points(target).expect("made");
        make_mount_points(target).expect("there");
        let mode = |name: &str| System::metadata_of(&target.join(name)).expect("there").mode;
        assert_eq!((mode("proc"), mode("sys"), mode("tmp"), mode("run")), (0o555, 0o555, 0o1777, 0o755));
        assert!(target.join("dev/pts").exists());
    }

    #[test]
    fn only_an_empty_directory_or_an_unfinished_rebuild_is_gone_into() {
        let target = tempfile::tempdir().expect("a directory");
        let (seven, eight) = ("7".repeat(32), "8".repeat(32));
        let (own, other) = (format!("\n{seven} boot empty\n"), format!("\n{eight} boot used\n"));
        assert_eq!(look(&target.path().join("none yet"), &seven).expect("looked"), Found::Empty);
        fs::create_dir(target.path().join("lost+found")).expect("made");
        assert_eq!(look(target.path(), &seven).expect("looked"), Found::Empty);
        for name in 0..9 {
            fs::write(target.path().join(name.to_string()), "").expect("written");
        }
        assert!(matches!(look(target.path(), &seven).expect("looked"), Found::Taken(9, some) if some.len() == SHOWN));
        for (head, found) in [
            (own.as_str(), Found::Unfinished),
            (&other, Found::OfAnotherPoint),
            (&format!("{seven} boot\n"), Found::Unfinished),
            (&format!("{other}{own}6d"), Found::Unfinished),
            ("", Found::OfAnotherPoint),
        ] {
            fs::write(target.path().join(".jetfrost-restoring"), head).expect("written");
            assert_eq!(look(target.path(), &seven).expect("looked"), found);
        }
    }
}
