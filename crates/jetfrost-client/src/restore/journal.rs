//! What a restore has made so far, in a file of the directory that it goes to: one that was killed, stopped or cut off goes on where
//! it was, and leaves no folder closed and nothing half-written. The file is gone when the restore has come to its end.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use data_encoding::HEXLOWER;
use jetfrost_image::PointId;
use jetfrost_image::format::{Entry, EntryKind};
use jetfrost_platform::{
    Accounts, FileContent, Machine, Metadata, MetadataTarget, OpenDirectory, Opening, Restored, System, name_bytes, path_bytes,
    path_of,
};

use super::pinned::PinnedFolders;
use crate::entries::{file_kind, modified};

/// The name of the file.
pub(crate) const NAME: &str = ".jetfrost-restoring";
/// What is read of it.
const MOST: u64 = 256 << 20;
/// A longer line is none of ours: a path has 4096 bytes at most.
const MOST_LINE: usize = 16 << 10;
const PARTIAL: &str = ".jetfrost-";
const PARTIAL_END: &str = ".partial";

/// The journal of a restore; without a file where none can be written, or where another restore is under way.
#[derive(Debug, Default)]
pub(super) struct Journal {
    folders: Arc<PinnedFolders>,
    path: PathBuf,
    file: Option<File>,
    /// Folders that a restore before this one made and did not finish, by their numbers in the file system: what has the path of one
    /// by now need not be it.
    made_before: HashMap<PathBuf, u64>,
    /// Whether that was one of the same point, since the machine was started last: what it put in place is whole.
    goes_on: bool,
}

/// The point of the restore into a directory that was begun and did not come to its end, in hexadecimal; empty where that cannot be told.
pub(crate) fn unfinished(into: &Path) -> io::Result<Option<String>> {
    let file = match OpenOptions::new().read(true).no_link().open(into.join(NAME)) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        other => other?,
    };
    let mut first = String::new();
    // What is no text names no point.
    let _ = BufReader::new(io::Read::take(file, LONGEST_HEAD)).read_line(&mut first);
    Ok(Some(first.split(' ').next().unwrap_or_default().to_owned()))
}

/// The first line is not longer.
const LONGEST_HEAD: u64 = 256;

impl Journal {
    /// Begins, or goes on with what was not finished.
    pub(super) fn begin(folders: &Arc<PinnedFolders>, into: &Path, point: PointId) -> Self {
        Self::open(folders, into, &format!("{point} {}", boot())).unwrap_or_default()
    }

    fn open(folders: &Arc<PinnedFolders>, into: &Path, head: &str) -> io::Result<Self> {
        let path = into.join(NAME);
        let way = folders.way(&path)?;
        let options = |options: &mut OpenOptions| options.no_link().private().open(way.path());
        let mut file = options(OpenOptions::new().read(true).append(true).create(true))?;
        // Another restore to the same directory keeps the journal; this one goes without.
        file.try_lock().map_err(io::Error::from)?;
        if file.metadata_now()?.uid != System::own_ids().0 {
            // Somebody else's word on which folders are ours opens none of them.
            return Err(ErrorKind::PermissionDenied.into());
        }
        let mut lines = BufReader::new(io::Read::take(&mut file, MOST)).split(b'\n').map_while(Result::ok);
        let goes_on = lines.next().is_some_and(|first| first == head.as_bytes());
        let made_before = lines.filter_map(|line| noted(&line)).map(|(path, number)| (into.join(path), number)).collect();
        let mut journal = Self { folders: Arc::clone(folders), path, file: Some(file), made_before, goes_on };
        if !goes_on {
            journal.begin_anew(into, head)?;
        }
        Ok(journal)
    }

    fn begin_anew(&mut self, into: &Path, head: &str) -> io::Result<()> {
        let Some(file) = &mut self.file else { return Ok(()) };
        file.set_len(0)?;
        file.write_all(format!("{head}\n").as_bytes())?;
        for (folder, number) in self.made_before.clone() {
            self.write(into, &folder, number);
        }
        Ok(())
    }

    /// Notes a folder that was made; it is closed to others until it has its own permissions at the end.
    pub(super) fn note(&mut self, into: &Path, folder: &Path) {
        if let Ok(number) = self.folders.file_number(folder) {
            self.write(into, folder, number);
        }
    }

    fn write(&mut self, into: &Path, folder: &Path, number: u64) {
        let (Some(file), Ok(within)) = (&mut self.file, folder.strip_prefix(into)) else { return };
        let line = format!("{} {number}\n", HEXLOWER.encode(path_bytes(within)));
        if file.write_all(line.as_bytes()).is_err() {
            // It is a help, no condition.
            self.file = None;
        }
    }

    /// Whether an unfinished restore made this folder.
    pub(super) fn made(&self, folder: &Path) -> bool {
        self.made_before.get(folder).is_some_and(|number| self.folders.file_number(folder).is_ok_and(|found| found == *number))
    }

    /// Whether what is there was put there by an unfinished restore of this point: it got its name when it was whole.
    pub(super) fn has_done(&self, entry: &Entry, there: &Metadata) -> bool {
        let same_kind = there.kind == Some(file_kind(entry.kind)) && (entry.kind != EntryKind::File || there.size == entry.len());
        self.goes_on && same_kind && there.modified == modified(entry)
    }

    /// Removes what was half-written in a folder that is gone through.
    pub(super) fn compact(&self, folder: &Path) {
        if self.file.is_none() {
            return;
        }
        let listed = self.folders.folder(folder).and_then(|held| fs::read_dir(held.path_to(b".")?));
        for entry in listed.into_iter().flatten().flatten() {
            if is_left_behind(name_bytes(&entry.file_name())) {
                let _ = fs::remove_file(entry.path());
            }
        }
    }

    /// Makes a folder that an unfinished restore made fit to be gone into again: it may have been given the permissions that it had,
    /// which need not let its owner write.
    pub(super) fn enter_again(&self, folder: &Path) -> io::Result<()> {
        Restored::Node(&self.folders.node(folder)?).set_mode(0o700)?;
        self.compact(folder);
        Ok(())
    }

    /// Nothing was put in place. Of an unfinished restore before this one something may have been.
    pub(super) fn end_if_new(self) {
        if !self.goes_on && self.made_before.is_empty() {
            self.end();
        }
    }

    /// The restore came to its end: nothing is unfinished.
    pub(super) fn end(self) {
        if self.file.is_some() {
            let _ = self.folders.way(&self.path).and_then(|way| fs::remove_file(way.path()));
        }
    }
}

/// A folder of a line, and its number.
fn noted(line: &[u8]) -> Option<(PathBuf, u64)> {
    let (path, number) = std::str::from_utf8(line).ok().filter(|line| line.len() <= MOST_LINE)?.split_once(' ')?;
    Some((path_of(&HEXLOWER.decode(path.as_bytes()).ok()?), number.parse().ok()?))
}

/// Whether this is the name of something half-written by a process that runs no more.
fn is_left_behind(name: &[u8]) -> bool {
    let number = std::str::from_utf8(name).ok().and_then(|name| name.strip_prefix(PARTIAL)?.strip_suffix(PARTIAL_END));
    let process = number.and_then(|number| u32::from_str_radix(number.split('-').next()?, 16).ok());
    process.is_some_and(|process| process != std::process::id() && !System::is_running(process))
}

/// A name beside a target that nothing has; its process can be told from it.
pub(super) fn partial_name(number: u64) -> String {
    format!("{PARTIAL}{:x}-{number:x}{PARTIAL_END}", std::process::id())
}

/// Which start of the machine this is: what was in place before another one may not have reached the disk.
fn boot() -> String {
    System::boot().unwrap_or_else(|| "unknown".into())
}

#[cfg(test)]
mod tests {
    use jetfrost_platform::Paths;

    use super::*;

    const POINT: PointId = PointId([7; 16]);

    fn begin(into: &Path, point: PointId) -> Journal {
        Journal::begin(&Arc::default(), into, point)
    }

    #[test]
    fn what_was_not_finished_is_known_again_and_what_was_leaves_nothing() {
        let place = tempfile::tempdir().expect("a directory");
        let into = place.path();
        let mut first = begin(into, POINT);
        let odd = into.join(path_of(b"m\xfcnster\n"));
        fs::create_dir(&odd).expect("made");
        first.note(into, &odd);
        // Killed here.
        drop(first);
        let again = begin(into, POINT);
        assert!(again.goes_on && again.made(&odd) && !again.made(&into.join("other")));
        assert!(begin(into, POINT).file.is_none(), "two at once share no journal");
        drop(again);
        let other = begin(into, PointId([8; 16]));
        assert!(!other.goes_on && other.made(&odd), "of another point it is still ours to open");
        drop(other);
        fs::rename(&odd, into.join("other")).and_then(|()| fs::create_dir(&odd)).expect("another has its name");
        let other = begin(into, PointId([8; 16]));
        assert!(!other.made(&odd), "somebody else made that");
        other.end();
        assert_eq!(fs::read_dir(into).expect("listed").count(), 2);
    }

    #[test]
    fn what_was_given_its_permissions_already_can_be_gone_into_again() {
        let place = tempfile::tempdir().expect("a directory");
        let folder = place.path().join("read only");
        fs::create_dir(&folder).expect("made");
        fs::set_permissions(&folder, std::os::unix::fs::PermissionsExt::from_mode(0o550)).expect("set");
        begin(place.path(), POINT).enter_again(&folder).expect("entered");
        assert_eq!(System::metadata_of(&folder).expect("there").mode & 0o777, 0o700);
    }

    #[test]
    fn a_restore_that_put_nothing_in_place_leaves_no_journal() {
        let place = tempfile::tempdir().expect("a directory");
        begin(place.path(), POINT).end_if_new();
        assert_eq!(fs::read_dir(place.path()).expect("listed").count(), 0);
        let made = place.path().join("made");
        fs::create_dir(&made).expect("made");
        begin(place.path(), POINT).note(place.path(), &made);
        begin(place.path(), POINT).end_if_new();
        assert!(begin(place.path(), POINT).made(&made), "of an unfinished one before it stays");
    }

    #[test]
    fn only_what_a_dead_process_left_half_written_is_removed() {
        let place = tempfile::tempdir().expect("a directory");
        let own = partial_name(1);
        let dead = format!("{PARTIAL}{:x}-3{PARTIAL_END}", 0x7fff_fff0_u32);
        for name in [own.as_str(), &dead, ".jetfrost-notes", "letter.partial"] {
            fs::write(place.path().join(name), "x").expect("written");
        }
        begin(place.path(), POINT).compact(place.path());
        let mut left: Vec<String> = fs::read_dir(place.path())
            .expect("listed")
            .map(|entry| entry.expect("an entry").file_name().into_string().expect("text"))
            .collect();
        left.sort();
        let mut expected = vec![own, ".jetfrost-notes".into(), NAME.to_owned(), "letter.partial".into()];
        expected.sort();
        assert_eq!(left, expected);
    }
}
