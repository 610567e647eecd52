//! What a restore has made so far, in a file of the directory that it goes to: one that was killed, stopped or cut off goes on where
//! it was, and leaves no folder closed and nothing half-written. The file is gone when the restore has come to its end.
//!
//! A line `POINT BOOT empty|used` begins each of the restores that went on with it, a line `PATH NUMBER` stands for each folder that one
//! of them made.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, ErrorKind, Read, Write};
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
/// What a new file system has in it before anything is put there.
const OF_THE_FILE_SYSTEM: &str = "lost+found";
/// What is read of it.
const MOST: u64 = 256 << 20;
/// A longer line is none of ours: a path has 4096 bytes at most.
const MOST_LINE: usize = 16 << 10;
/// Digits of a point's id.
const POINT_DIGITS: usize = 32;
const PARTIAL: &str = ".jetfrost-";
const PARTIAL_END: &str = ".partial";
/// The permissions of a folder that is being restored.
const CLOSED: u32 = 0o700;

/// The journal of a restore; without a file where none can be written, or where another restore is under way.
#[derive(Debug, Default)]
pub(super) struct Journal {
    folders: Arc<PinnedFolders>,
    path: PathBuf,
    file: Option<File>,
    /// Folders that restores before this one made and did not finish, by their numbers in the file system: what has the path of one
    /// by now need not be it.
    made_before: HashMap<PathBuf, u64>,
    before: Before,
    /// Whether the directory had nothing in it when the first of them began.
    was_empty: bool,
}

/// What is known of what restores before this one put in place.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
enum Before {
    /// There was none.
    #[default]
    None,
    /// They were of this point, since the machine was started last: it is whole.
    Whole,
    /// The machine was started anew since, or they were of other points: it need not have reached the disk, nor be of this one.
    Unsure,
}

/// The line that begins a restore.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Head {
    point: String,
    /// Which start of the machine it was: what was in place before another one may not have reached the disk.
    boot: String,
    was_empty: bool,
}

impl Head {
    const EMPTY: &str = "empty";
    const USED: &str = "used";

    fn line(&self) -> String {
        format!("{} {} {}", self.point, self.boot, if self.was_empty { Self::EMPTY } else { Self::USED })
    }

    /// None for what was cut off, or is no such line. Earlier versions said nothing of the directory.
    fn of(line: &str) -> Option<Self> {
        let mut words = line.split(' ');
        let (point, boot) = (words.next()?.to_owned(), words.next()?.to_owned());
        let is_head = point.len() == POINT_DIGITS && !boot.is_empty();
        is_head.then(|| Self { point, boot, was_empty: words.next() == Some(Self::EMPTY) })
    }
}

/// What a journal says.
#[derive(Debug, Default)]
struct Noted {
    heads: Vec<Head>,
    folders: Vec<(PathBuf, u64)>,
}

impl Noted {
    fn read(file: impl Read) -> Self {
        let mut noted = Self::default();
        for line in BufReader::new(file.take(MOST)).split(b'\n').map_while(Result::ok) {
            let Ok(line) = std::str::from_utf8(&line) else { continue };
            match noted_folder(line) {
                Some(folder) => noted.folders.push(folder),
                None => noted.heads.extend(Head::of(line)),
            }
        }
        noted
    }
}

/// The point of the restore into a directory that was begun and did not come to its end, in hexadecimal; empty where that cannot be told.
pub(crate) fn unfinished(into: &Path) -> io::Result<Option<String>> {
    match OpenOptions::new().read(true).no_link().open(into.join(NAME)) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        opened => Ok(Some(Noted::read(opened?).heads.pop().map(|head| head.point).unwrap_or_default())),
    }
}

/// The names in a directory, ascending, without those of its file system and of a journal.
pub(crate) fn others_in(directory: &Path) -> io::Result<Vec<PathBuf>> {
    let names = fs::read_dir(directory)?.map(|entry| entry.map(|entry| PathBuf::from(entry.file_name())));
    let mut names: Vec<PathBuf> = names.collect::<io::Result<_>>()?;
    names.retain(|name| ![OF_THE_FILE_SYSTEM, NAME].contains(&&*name.to_string_lossy()));
    names.sort();
    Ok(names)
}

impl Journal {
    /// Begins, or goes on with what was not finished.
    pub(super) fn begin(folders: &Arc<PinnedFolders>, into: &Path, point: PointId) -> Self {
        Self::open(folders, into, point).unwrap_or_default()
    }

    fn open(folders: &Arc<PinnedFolders>, into: &Path, point: PointId) -> io::Result<Self> {
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
        let itself = folders.folder(into)?.path_to(b".")?;
        let noted = Noted::read(&mut file);
        let was_empty = match noted.heads.first() {
            Some(first) => first.was_empty,
            None => others_in(&itself).is_ok_and(|others| others.is_empty()),
        };
        let head = Head { point: point.to_string(), boot: boot(), was_empty };
        let before = match noted.heads.as_slice() {
            [] => Before::None,
            heads if heads.iter().all(|other| *other == head) => Before::Whole,
            _ => Before::Unsure,
        };
        if noted.heads.last() != Some(&head) {
            // A line may have been cut off, and which point it is of is to be known whatever becomes of the rest.
            file.write_all(format!("\n{}\n", head.line()).as_bytes())?;
            file.sync_all()?;
            // Who may not read the directory has the journal all the same, until the machine stops.
            let _ = File::open(itself).and_then(|directory| directory.sync_all());
        }
        let made_before = noted.folders.into_iter().map(|(path, number)| (into.join(path), number)).collect();
        Ok(Self { folders: Arc::clone(folders), path, file: Some(file), made_before, before, was_empty })
    }

    /// Notes a folder that is made; it is closed to others until it has its own permissions at the end.
    pub(super) fn note(&mut self, into: &Path, folder: &Path, number: u64) {
        let (Some(file), Ok(within)) = (&mut self.file, folder.strip_prefix(into)) else { return };
        let line = format!("{} {number}\n", HEXLOWER.encode(path_bytes(within)));
        if file.write_all(line.as_bytes()).is_err() {
            // It is a help, no condition.
            self.file = None;
        }
    }

    /// Whether an unfinished restore made this folder for an entry.
    pub(super) fn made(&self, folder: &Path, entry: &Entry) -> bool {
        let Ok(found) = self.folders.folder(folder).and_then(|held| held.metadata()) else { return false };
        let is_noted = self.made_before.get(folder) == Some(&found.file);
        // What was noted last before the machine stopped may not have reached the disk. Whoever else may make folders here makes none
        // that is somebody else's.
        let may_be_ours = [System::own_ids().0, entry.uid].contains(&found.uid);
        is_noted || (self.may_be_torn() && may_be_ours)
    }

    /// Whether what is there was put there by an unfinished restore of this point: it got its name when it was whole.
    pub(super) fn has_done(&self, entry: &Entry, there: &Metadata) -> bool {
        let same_len = entry.kind != EntryKind::File || there.size == entry.len();
        self.before == Before::Whole && same_len && is_of(entry, there)
    }

    /// Whether what is there was put there by an unfinished restore, and has another content than it had: the machine stopped before all
    /// of it was on the disk.
    pub(super) fn is_torn(&self, entry: &Entry, there: &Metadata) -> bool {
        self.may_be_torn() && entry.kind != EntryKind::Directory && is_of(entry, there)
    }

    /// Where there was something before, what is like ours may be somebody else's.
    fn may_be_torn(&self) -> bool {
        self.before == Before::Unsure && self.was_empty
    }

    /// Removes what was half-written in a folder that is gone through.
    pub(super) fn compact(&self, folder: &Path) {
        if self.before == Before::None {
            return;
        }
        let listed = self.folders.folder(folder).and_then(|held| fs::read_dir(held.path_to(b".")?));
        for entry in listed.into_iter().flatten().flatten() {
            if is_left_behind(name_bytes(&entry.file_name())) {
                // A folder got its name before anything was put into it.
                let _ = fs::remove_file(entry.path()).or_else(|_| fs::remove_dir(entry.path()));
            }
        }
    }

    /// Makes a folder that an unfinished restore made fit to be gone into again: it may have been given the permissions that it had,
    /// which need not let its owner write.
    pub(super) fn enter_again(&self, folder: &Path) -> io::Result<()> {
        Restored::Node(&self.folders.node(folder)?).set_mode(CLOSED)
    }

    /// Nothing was put in place. Of an unfinished restore before this one something may have been.
    pub(super) fn end_if_new(self) {
        if self.before == Before::None {
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

/// Whether what is there is of the kind and time of an entry.
fn is_of(entry: &Entry, there: &Metadata) -> bool {
    there.kind == Some(file_kind(entry.kind)) && there.modified == modified(entry)
}

/// The folder of a line, and its number.
fn noted_folder(line: &str) -> Option<(PathBuf, u64)> {
    let (path, number) = line.split_once(' ').filter(|_| line.len() <= MOST_LINE)?;
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

/// Which start of the machine this is.
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

    fn folder_entry() -> Entry {
        Entry::new(b"folder".to_vec(), EntryKind::Directory)
    }

    fn number(path: &Path) -> u64 {
        System::metadata_of(path).expect("there").file
    }

    /// As if the machine had been started anew since all that is noted.
    fn cut(into: &Path) {
        let noted = fs::read_to_string(into.join(NAME)).expect("a journal");
        fs::write(into.join(NAME), noted.replace(&boot(), "an-earlier-one")).expect("written");
    }

    #[test]
    fn what_was_not_finished_is_known_again_and_what_was_leaves_nothing() {
        let place = tempfile::tempdir().expect("a directory");
        let into = place.path();
        fs::write(into.join("own"), "").expect("written");
        let mut first = begin(into, POINT);
        let odd = into.join(path_of(b"m\xfcnster\n"));
        fs::create_dir(&odd).expect("made");
        first.note(into, &odd, number(&odd));
        // Killed here.
        drop(first);
        let again = begin(into, POINT);
        assert!(
            again.before == Before::Whole
                && again.made(&odd, &folder_entry())
                && !again.made(&into.join("other"), &folder_entry())
        );
        assert!(begin(into, POINT).file.is_none(), "two at once share no journal");
        drop(again);
        let other = begin(into, PointId([8; 16]));
        assert!(other.before == Before::Unsure && other.made(&odd, &folder_entry()), "of another point it is still ours to open");
        drop(other);
        assert_eq!(begin(into, POINT).before, Before::Unsure, "what the other point left is there still");
        assert_eq!(unfinished(into).expect("read"), Some(POINT.to_string()));
        fs::rename(&odd, into.join("other")).and_then(|()| fs::create_dir(&odd)).expect("another has its name");
        let other = begin(into, PointId([8; 16]));
        assert!(!other.made(&odd, &folder_entry()), "somebody else made that");
        other.end();
        assert_eq!(others_in(into).expect("listed").len(), 3);
        assert_eq!(unfinished(into).expect("read"), None);
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
        begin(place.path(), POINT).note(place.path(), &made, number(&made));
        begin(place.path(), POINT).end_if_new();
        assert!(begin(place.path(), POINT).made(&made, &folder_entry()), "of an unfinished one before it stays");
    }

    /// Beside what was somebody's, what is like ours may be somebody's too.
    #[test]
    fn after_a_power_cut_what_may_be_torn_is_replaced_only_where_all_of_it_is_ours() {
        for was_empty in [true, false] {
            let place = tempfile::tempdir().expect("a directory");
            let into = place.path();
            let (own, torn, folder) = (into.join("own"), into.join("torn"), into.join("folder"));
            if !was_empty {
                fs::write(&own, "mine").expect("written");
            }
            begin(into, POINT);
            fs::write(&torn, "").expect("written");
            fs::create_dir(&folder).expect("made");
            let there = System::metadata_of(&torn).expect("there");
            let mut entry = Entry::new(b"torn".to_vec(), EntryKind::File);
            (entry.mtime, entry.mtime_nanos) = (there.modified.seconds, there.modified.nanos);
            assert!(begin(into, POINT).has_done(&entry, &there) && !begin(into, POINT).is_torn(&entry, &there));
            cut(into);
            // Also when the one that went on after it was killed.
            for _ in 0..2 {
                let journal = begin(into, POINT);
                assert!(!journal.has_done(&entry, &there));
                assert_eq!((journal.is_torn(&entry, &there), journal.made(&folder, &folder_entry())), (was_empty, was_empty));
            }
            if System::is_administrator() {
                std::os::unix::fs::chown(&folder, Some(4711), None).expect("given away");
                assert!(!begin(into, POINT).made(&folder, &folder_entry()), "somebody else's");
                let mut theirs = folder_entry();
                theirs.uid = 4711;
                assert_eq!(begin(into, POINT).made(&folder, &theirs), was_empty, "it was given to them before");
            }
        }
    }

    #[test]
    fn only_what_a_dead_process_left_half_written_is_removed() {
        let place = tempfile::tempdir().expect("a directory");
        let own = partial_name(1);
        let dead = format!("{PARTIAL}{:x}-3{PARTIAL_END}", 0x7fff_fff0_u32);
        for name in [own.as_str(), &dead, ".jetfrost-notes", "letter.partial"] {
            fs::write(place.path().join(name), "x").expect("written");
        }
        let dead = place.path().join(format!("{PARTIAL}{:x}-4{PARTIAL_END}", 0x7fff_fff0_u32));
        fs::create_dir(dead).expect("made");
        begin(place.path(), POINT).compact(place.path());
        assert_eq!(others_in(place.path()).expect("listed").len(), 5, "none was before");
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
