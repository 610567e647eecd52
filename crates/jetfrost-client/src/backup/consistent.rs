//! A source that does not change while it is read: snapshots of the volumes that included folders lie on, where the system has them.
//!
//! What is mounted on a volume is not in its snapshot. So where any volume is read from a snapshot, every other that leads to an included
//! folder stands in for itself, at the place where it is mounted. Where that cannot be told for sure, the run reads the files as they are,
//! and says which of them changed meanwhile.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use jetfrost_platform::{Directory, OpenDirectory, Paths, Snapshot, System, TakenSnapshot, Volumes, path_bytes, reason};

use crate::scan::StandIn;
use crate::selection::Folder;

/// What a run reads in place of included volumes.
#[derive(Default)]
pub(super) struct Consistent {
    /// Before the snapshots: their directories are closed before those go.
    pub(super) stand_ins: Vec<StandIn>,
    snapshots: Vec<(PathBuf, TakenSnapshot)>,
    /// Why a volume that has snapshots is read as it is.
    pub(super) why_not: Option<String>,
}

impl Consistent {
    /// Takes snapshots of what included folders lie on. Never fails: what cannot be had is read as it is.
    pub(super) fn take(folders: &[Folder]) -> Self {
        let paths: Vec<&Path> = folders.iter().map(|folder| folder.0.as_path()).collect();
        Self::try_take(&paths)
            .unwrap_or_else(|(volume, error)| Self { why_not: Some(why_not(&volume, &error)), ..Self::default() })
    }

    /// Where the volumes begin that are read from a snapshot.
    pub(super) fn volumes(&self) -> Vec<PathBuf> {
        self.snapshots.iter().map(|(volume, _)| volume.clone()).collect()
    }

    fn try_take(folders: &[&Path]) -> Result<Self, (PathBuf, io::Error)> {
        let beginnings: Vec<Vec<PathBuf>> = folders.iter().map(|folder| beginnings(folder)).collect();
        let lain_on: BTreeSet<&PathBuf> = beginnings.iter().filter_map(|all| all.last()).collect();
        let mut taken = Self::default();
        for volume in lain_on {
            let of = |error| (volume.clone(), error);
            if is_partly_mounted_again(volume, folders).map_err(of)? {
                continue;
            }
            if let Some(snapshot) = TakenSnapshot::take(volume).map_err(of)? {
                taken.snapshots.push((volume.clone(), snapshot));
            }
        }
        if !taken.snapshots.is_empty() {
            for volume in beginnings.iter().flatten().collect::<BTreeSet<_>>() {
                taken.stand_ins.push(taken.stand_in(volume).map_err(|error| (volume.clone(), error))?);
            }
        }
        Ok(taken)
    }

    fn stand_in(&self, volume: &Path) -> io::Result<StandIn> {
        let snapshot = self.snapshots.iter().find(|(of, _)| of == volume);
        let directory = snapshot.map_or_else(|| Directory::at(volume), |(_, snapshot)| snapshot.directory())?;
        let path = if volume.parent().is_none() { Vec::new() } else { path_bytes(volume).to_vec() };
        StandIn::new(path, directory, System::metadata_of(volume)?.volume)
    }
}

fn why_not(volume: &Path, error: &io::Error) -> String {
    format!("no snapshot of {} could be taken ({})", volume.display(), reason(error))
}

/// Where volumes begin on the way to a path, the root first. What is not there lies on none.
fn beginnings(path: &Path) -> Vec<PathBuf> {
    let mut before = None;
    let mut found = Vec::new();
    let mut ancestors: Vec<&Path> = path.ancestors().collect();
    ancestors.reverse();
    for at in ancestors {
        let Ok(metadata) = System::metadata_of(at) else { return Vec::new() };
        if before.replace(metadata.volume) != Some(metadata.volume) {
            found.push(at.to_path_buf());
        }
    }
    found
}

/// Whether a part of a volume is mounted within it once more, on the way to an included folder or below one: that is on the same volume and
/// would be backed up, and is not in a snapshot.
fn is_partly_mounted_again(volume: &Path, folders: &[&Path]) -> io::Result<bool> {
    let its_own = System::metadata_of(volume)?.volume;
    let matters = |mount: &Path| folders.iter().any(|folder| folder.starts_with(mount) || mount.starts_with(folder));
    let is_of_it = |mount: &Path| System::metadata_of(mount).is_ok_and(|found| found.volume == its_own);
    let mounts = System::mount_points()?;
    Ok(mounts.iter().any(|mount| mount != volume && mount.starts_with(volume) && matters(mount) && is_of_it(mount)))
}
