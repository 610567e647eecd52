//! Changes, as the system tells of them: of whole volumes to root, of single folders to everybody.

mod folders;
mod open_files;
mod volumes;

use std::collections::HashSet;
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use nix::errno::Errno;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::statfs::{EXT4_SUPER_MAGIC, FsType, TMPFS_MAGIC, XFS_SUPER_MAGIC, statfs};

use crate::{Accounts, ChangeWaiter, ChangeWatch, Changes, Directory, Paths, System, Watched};
use folders::FolderWatch;
use volumes::VolumeWatch;

/// It is there while the kernel's NFS server is. What comes over an export is told without its directory.
const EXPORTS: &str = "/proc/net/rpc/nfsd";
/// More folders at once are as good as all.
const MOST: usize = 50_000;

/// A watch.
pub struct Watch {
    /// The volumes on which something is watched.
    volumes: HashSet<u64>,
    reports: Reports,
}

enum Reports {
    OfVolumes(VolumeWatch),
    OfFolders(FolderWatch),
}

impl ChangeWatch for Watch {
    fn begin(paths: &[PathBuf], whole_volumes: bool) -> io::Result<Option<Self>> {
        if paths.is_empty() || Path::new(EXPORTS).exists() {
            return Ok(None);
        }
        let mut volumes = HashSet::new();
        for path in paths {
            volumes.insert(System::metadata_behind(path)?.volume);
            if !tells_of_all(statfs(path)?.filesystem_type()) {
                return Ok(None);
            }
        }
        let reports = if whole_volumes && System::is_administrator() {
            VolumeWatch::begin(paths)?.map(Reports::OfVolumes)
        } else {
            FolderWatch::begin(&volumes)?.map(Reports::OfFolders)
        };
        Ok(reports.map(|reports| Self { volumes, reports }))
    }

    fn about_to_list(&mut self, folder: &Directory) -> io::Result<Option<(u64, u64)>> {
        match &mut self.reports {
            Reports::OfVolumes(_) => Ok(None),
            Reports::OfFolders(folders) => folders.add(folder),
        }
    }

    fn watched(&self) -> Watched {
        match &self.reports {
            Reports::OfVolumes(_) => Watched::Volumes(self.volumes.clone()),
            Reports::OfFolders(folders) => Watched::Folders(folders.watched()),
        }
    }

    fn changes(&mut self) -> io::Result<Changes> {
        match &mut self.reports {
            Reports::OfVolumes(volumes) => volumes.changes(),
            Reports::OfFolders(folders) => folders.changes(),
        }
    }

    fn waiter(&self) -> io::Result<ChangeWaiter> {
        let reports = match &self.reports {
            Reports::OfVolumes(volumes) => volumes.as_fd(),
            Reports::OfFolders(folders) => folders.as_fd(),
        };
        let reports = reports.try_clone_to_owned()?;
        Ok(Box::new(move |at_most| {
            let mut waiting = [PollFd::new(reports.as_fd(), PollFlags::POLLIN)];
            match poll(&mut waiting, PollTimeout::try_from(at_most).unwrap_or(PollTimeout::MAX)) {
                Err(Errno::EINTR) => Ok(false),
                other => Ok(other? > 0),
            }
        }))
    }

    fn being_written(&self) -> io::Result<HashSet<(u64, u64)>> {
        open_files::being_written(&self.volumes)
    }

    fn sees_all_programs(&self) -> bool {
        matches!(self.reports, Reports::OfVolumes(_))
    }
}

/// Whether the only way to change files on such a volume is through this system.
fn tells_of_all(kind: FsType) -> bool {
    [EXT4_SUPER_MAGIC, XFS_SUPER_MAGIC, TMPFS_MAGIC].contains(&kind)
}

#[cfg(test)]
mod tests {
    use std::fs::{self, File, OpenOptions};
    use std::io::Write;
    use std::os::unix::fs::PermissionsExt;
    use std::sync::Mutex;
    use std::time::Duration;

    use super::*;
    use crate::OpenDirectory;

    /// Each of these tests makes more reports than another could have waiting.
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

    fn id(path: &Path) -> (u64, u64) {
        let found = System::metadata_of(path).expect("there");
        (found.volume, found.file)
    }

    /// A watch over these folders, by either means.
    fn watch(folders: &[&Path], whole_volumes: bool) -> Watch {
        let paths: Vec<PathBuf> = folders.iter().map(|folder| folder.to_path_buf()).collect();
        let mut watch = Watch::begin(&paths, whole_volumes).expect("begun").expect("root on a file system that tells");
        for folder in folders {
            let added = watch.about_to_list(&Directory::at(folder).expect("opened")).expect("watched");
            assert_eq!(added, if whole_volumes { None } else { Some(id(folder)) });
            assert!(watch.watched().includes(id(folder)));
        }
        watch
    }

    /// Each of what people and programs do is told of, with the folder that it is done in.
    fn whatever_changes_is_told(whole_volumes: bool) {
        let _alone = ONE_AT_A_TIME.lock();
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let (one, other) = (root.join("one"), root.join("other"));
        fs::create_dir_all(one.join("below")).expect("made");
        fs::create_dir(&other).expect("made");
        fs::write(one.join("file"), "first").expect("written");
        let (one_id, other_id) = (id(&one), id(&other));
        let mut watch = watch(&[&root, &one, &other, &one.join("below")], whole_volumes);
        let wait = watch.waiter().expect("it can be waited for");
        let mut told =
            |what: &str, folder: (u64, u64)| match wait(Duration::from_secs(60)).and_then(|_| watch.changes()).expect("asked") {
                Changes::In(folders) => assert!(folders.contains(&folder), "{what}: {folders:?} without {folder:?}"),
                Changes::Untold => panic!("{what}: untold"),
            };
        let file = one.join("file");
        OpenOptions::new().append(true).open(&file).and_then(|mut file| file.write_all(b"more")).expect("written");
        told("written to", one_id);
        fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).expect("set");
        told("permissions", one_id);
        File::options()
            .write(true)
            .open(&file)
            .and_then(|file| file.set_modified(std::time::SystemTime::UNIX_EPOCH))
            .expect("set");
        told("times", one_id);
        xattr::set(&file, "user.colour", b"blue").expect("set");
        told("attributes", one_id);
        fs::write(one.join("new"), "").expect("made");
        told("made", one_id);
        fs::rename(one.join("new"), other.join("new")).expect("moved");
        told("moved in", other_id);
        fs::remove_file(other.join("new")).expect("removed");
        told("removed", other_id);
        fs::set_permissions(&other, fs::Permissions::from_mode(0o700)).expect("set");
        told("permissions of a folder", other_id);
        fs::rename(one.join("below"), other.join("below")).expect("moved");
        told("folder moved", other_id);
        fs::write(other.join("below/new"), "").expect("made");
        told("made where it was moved to", id(&other.join("below")));
        std::os::unix::fs::symlink("x", one.join("link")).expect("made");
        told("link", one_id);
        let quiet = watch.changes().expect("asked");
        assert!(!matches!(quiet, Changes::In(folders) if folders.contains(&one_id)), "it is told once");
    }

    #[test]
    fn whatever_changes_on_a_volume_is_told_with_its_folder() {
        whatever_changes_is_told(true);
    }

    #[test]
    fn whatever_changes_in_a_folder_is_told_with_its_folder() {
        whatever_changes_is_told(false);
    }

    fn more_than_the_system_keeps(whole_volumes: bool, setting: &str) {
        let _alone = ONE_AT_A_TIME.lock();
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let mut watch = watch(&[&root], whole_volumes);
        let most: usize = fs::read_to_string(setting).map_or(16_384, |n| n.trim().parse().expect("a number"));
        for n in 0..=most {
            fs::create_dir(root.join(n.to_string())).expect("made");
            fs::write(root.join(n.to_string()).join("x"), "").expect("made");
        }
        assert_eq!(watch.changes().expect("asked"), Changes::Untold);
        fs::write(root.join("y"), "").expect("made");
        assert!(matches!(watch.changes().expect("asked"), Changes::In(folders) if folders.contains(&id(&root))));
    }

    #[test]
    fn more_than_the_system_keeps_of_a_volume_is_untold_and_then_it_goes_on() {
        more_than_the_system_keeps(true, "/proc/sys/fs/fanotify/max_queued_events");
    }

    #[test]
    fn more_than_the_system_keeps_of_folders_is_untold_and_then_it_goes_on() {
        more_than_the_system_keeps(false, "/proc/sys/fs/inotify/max_queued_events");
    }

    /// A number that a new folder got is not that of the folder that had it before.
    #[test]
    fn a_folder_that_is_gone_is_not_watched_any_more() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        let below = root.join("below");
        fs::create_dir(&below).expect("made");
        let gone = id(&below);
        let mut watch = watch(&[&root, &below], false);
        fs::remove_dir(&below).expect("removed");
        assert!(matches!(watch.changes().expect("asked"), Changes::In(folders) if folders.contains(&gone)));
        assert!(!watch.watched().includes(gone) && watch.watched().includes(id(&root)));
    }

    #[test]
    fn what_does_not_tell_is_not_watched() {
        for whole_volumes in [true, false] {
            assert!(Watch::begin(&[PathBuf::from("/proc")], whole_volumes).expect("asked").is_none());
            assert!(Watch::begin(&[], whole_volumes).expect("asked").is_none());
            assert!(Watch::begin(&[PathBuf::from("/nowhere at all")], whole_volumes).is_err());
        }
        let directory = tempfile::tempdir().expect("a directory");
        let mut watch = watch(&[&directory.path().canonicalize().expect("there")], false);
        let proc = Directory::at(Path::new("/proc")).expect("opened");
        assert_eq!(watch.about_to_list(&proc).expect("asked"), None, "of another volume than was asked for");
    }
}
