//! Where something is put, and what happens when something else is there.

use std::fs::{self, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::{fmt, io};

use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Entry, EntryKind, PointHead};
use jetfrost_image::tree::ChunkSource;
use jetfrost_platform::{FileKind, Metadata, Opening, name_bytes, os_str, rename_new};
use jetfrost_wire::restore::RestoreTarget;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::journal::Journal;
use super::pinned::PinnedFolders;
use super::{KeptBoth, Result};
use crate::entries::file_kind;
use crate::error::ClientError;
use crate::same_content::is_content;

/// Where things are put.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// Into this directory, which is made if it is not there. What is asked for by its path keeps its last name; a whole point keeps its
    /// folders.
    Into(PathBuf),
    /// Where they were.
    Original,
    /// Where they were, each under a name that has the point's time in it.
    Beside,
}

impl Target {
    /// What the service learns of it.
    pub(crate) fn on_record(&self) -> RestoreTarget {
        match self {
            Self::Into(_) => RestoreTarget::Elsewhere,
            Self::Original => RestoreTarget::Original,
            Self::Beside => RestoreTarget::Beside,
        }
    }
}

/// What happens when something else has the name.
#[derive(Debug, Clone, Default)]
pub enum OnConflict {
    /// What is there stays; what is brought back gets a name that has the point's time in it.
    #[default]
    KeepBoth,
    /// What is there stays, and nothing is brought back.
    Skip,
    /// What is there goes. A folder never does.
    Replace,
    /// Somebody is asked each time.
    Ask(Asking),
}

/// What somebody decided about one name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Resolution {
    /// As [`OnConflict::KeepBoth`].
    KeepBoth,
    /// As [`OnConflict::Skip`].
    Skip,
    /// As [`OnConflict::Replace`].
    Replace,
}

/// Something else that has the name.
#[derive(Debug)]
pub struct Conflict<'c> {
    /// The name.
    pub path: &'c Path,
    /// What is there.
    pub there: Metadata,
    /// What would be brought back.
    pub entry: &'c Entry,
}

/// Asks somebody what is to happen.
#[derive(Clone)]
pub struct Asking(pub Arc<dyn Fn(&Conflict<'_>) -> Resolution + Send + Sync>);

impl fmt::Debug for Asking {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Asking")
    }
}

/// Where something goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Place {
    /// Nothing has this name. Should something have it in the end, the next one is taken if both are to be kept.
    Free(Name),
    /// In the place of what is there.
    Over(PathBuf),
    /// It is there already: an unfinished restore put it there, or something with the same content is there.
    There(PathBuf),
    /// It is a folder that is there already, and this is put into it.
    Merged(PathBuf),
    /// It is left out in favour of what is there.
    Skipped,
}

/// A name of something brought back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Name {
    /// The path that it had, or would have without anything else.
    pub(super) wanted: PathBuf,
    /// The point's time.
    time: Arc<str>,
    /// Zero is the name itself, one has the time, and further ones have a number as well.
    number: u32,
    keeps_both: bool,
    is_folder: bool,
}

impl Name {
    /// As a path.
    pub(super) fn path(&self) -> PathBuf {
        match self.number {
            0 => self.wanted.clone(),
            1 => with_suffix(&self.wanted, &format!(" ({})", self.time), self.is_folder),
            number => with_suffix(&self.wanted, &format!(" ({}, {number})", self.time), self.is_folder),
        }
    }

    /// Whether it is another than the one that it had.
    fn is_changed(&self) -> bool {
        self.number > 0
    }

    /// Whether another name than the first that was wanted was taken, because something else had that.
    pub(super) fn is_conflict(&self, beside: bool) -> bool {
        self.number > u32::from(beside)
    }

    /// Notes that something is there by this name, if it is another.
    pub(super) fn note(&self, path: &Path, kept_both: &KeptBoth) {
        if self.is_changed() {
            kept_both.note(&self.wanted, path);
        }
    }

    /// The next one, if both are to be kept.
    fn next(&self) -> Option<Self> {
        self.keeps_both.then(|| Self { number: self.number + 1, ..self.clone() })
    }
}

/// Where something goes that was found a place.
#[derive(Debug, Clone)]
pub(super) enum Destination {
    /// A name that nothing has.
    New(Name),
    /// In the place of what is there.
    Over(PathBuf),
}

impl Destination {
    /// As a path; it may turn out to be another one if somebody takes the name meanwhile.
    pub(super) fn path(&self) -> PathBuf {
        match self {
            Self::New(name) => name.path(),
            Self::Over(path) => path.clone(),
        }
    }

    /// Gives what is whole its name. Where something has it by now, nothing is lost of that.
    pub(super) fn take(&self, folders: &PinnedFolders, temporary: &Path, kept_both: &KeptBoth) -> io::Result<()> {
        let temporary = folders.way(temporary)?;
        let mut name = match self {
            Self::Over(path) => return fs::rename(temporary.path(), folders.way(path)?.path()),
            Self::New(name) => name.clone(),
        };
        loop {
            let path = name.path();
            match rename_new(temporary.path(), folders.way(&path)?.path()) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => name = name.next().ok_or(error)?,
                Err(error) => return Err(error),
                Ok(()) => {
                    name.note(&path, kept_both);
                    return Ok(());
                }
            }
        }
    }
}

/// Longest name that file systems take, in bytes (`NAME_MAX`).
const LONGEST_NAME: usize = 255;
/// What is behind the last dot of a name and not longer than this tells programs what a file is.
const LONGEST_EXTENSION: usize = 12;

/// A name with something more in it, before its extension.
fn with_suffix(path: &Path, suffix: &str, is_folder: bool) -> PathBuf {
    let name = path.file_name().map(name_bytes).unwrap_or_default();
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0 && name.len() - at <= LONGEST_EXTENSION);
    let (stem, extension) = name.split_at(dot.filter(|_| !is_folder).unwrap_or(name.len()));
    let mut stem = &stem[..stem.len().min(LONGEST_NAME.saturating_sub(suffix.len() + extension.len()))];
    // No letter is cut in two, if it is text.
    while std::str::from_utf8(name).is_ok() && std::str::from_utf8(stem).is_err() {
        stem = &stem[..stem.len() - 1];
    }
    path.with_file_name(os_str(&[stem, suffix.as_bytes(), extension].concat()))
}

/// A point's time as it stands in names. No name has a colon on every system.
pub(super) fn time_in_names(point: &PointHead) -> String {
    let created = Timestamp::from_millisecond(point.created).unwrap_or_default().to_zoned(TimeZone::system());
    created.strftime("%Y-%m-%d %H.%M").to_string()
}

/// Finds places.
pub(super) struct Placing<'p> {
    keys: &'p StoreKeys,
    on_conflict: &'p OnConflict,
    folders: Arc<PinnedFolders>,
    /// The point's time, as it stands in names.
    time: Arc<str>,
}

impl<'p> Placing<'p> {
    pub(super) fn new(keys: &'p StoreKeys, on_conflict: &'p OnConflict, point: &PointHead, folders: Arc<PinnedFolders>) -> Self {
        Self { keys, on_conflict, folders, time: time_in_names(point).into() }
    }

    /// Where an entry goes that wants this path, or a place beside it.
    pub(super) fn find(
        &self,
        source: &impl ChunkSource<Error = ClientError>,
        journal: &Journal,
        entry: &Entry,
        wanted: &Path,
        beside: bool,
    ) -> Result<Place> {
        let is_folder = entry.kind == EntryKind::Directory;
        let (time, number) = (Arc::clone(&self.time), u32::from(beside));
        let mut name = Name { wanted: wanted.into(), time, number, keeps_both: self.keeps_both(), is_folder };
        loop {
            let path = name.path();
            let Ok(there) = self.folders.metadata_of(&path) else { return Ok(Place::Free(name)) };
            if is_folder && there.kind == Some(FileKind::Directory) && (!name.is_changed() || journal.made(&path, entry)) {
                return Ok(Place::Merged(path));
            }
            if !is_folder
                && !self.replaces()
                && (journal.has_done(entry, &there) || self.is_same(source, entry, &path, &there)?)
            {
                return Ok(Place::There(path));
            }
            if journal.is_torn(entry, &there) {
                return Ok(Place::Over(path));
            }
            let is_folder_there = there.kind == Some(FileKind::Directory);
            let resolution =
                if name.is_changed() && name.keeps_both { Resolution::KeepBoth } else { self.resolve(&path, there, entry) };
            match resolution {
                Resolution::KeepBoth => name = Name { keeps_both: true, number: name.number + 1, ..name },
                Resolution::Replace if !is_folder && !is_folder_there => return Ok(Place::Over(path)),
                Resolution::Replace | Resolution::Skip => return Ok(Place::Skipped),
            }
        }
    }

    fn keeps_both(&self) -> bool {
        matches!(self.on_conflict, OnConflict::KeepBoth)
    }

    pub(super) fn replaces(&self) -> bool {
        matches!(self.on_conflict, OnConflict::Replace)
    }

    fn resolve(&self, path: &Path, there: Metadata, entry: &Entry) -> Resolution {
        match self.on_conflict {
            OnConflict::KeepBoth => Resolution::KeepBoth,
            OnConflict::Skip => Resolution::Skip,
            OnConflict::Replace => Resolution::Replace,
            OnConflict::Ask(asking) => (asking.0)(&Conflict { path, there, entry }),
        }
    }

    /// Whether what is there has the same content. One that cannot be read, or whose content cannot be told, is another.
    fn is_same(
        &self,
        source: &impl ChunkSource<Error = ClientError>,
        entry: &Entry,
        path: &Path,
        there: &Metadata,
    ) -> Result<bool> {
        if there.kind != Some(file_kind(entry.kind)) {
            return Ok(false);
        }
        let Ok(way) = self.folders.way(path) else { return Ok(false) };
        match entry.kind {
            EntryKind::File if there.size == entry.len() => {
                let Some(content) = &entry.content else { return Ok(true) };
                let Ok(mut file) = OpenOptions::new().read(true).put_by_others().open(way.path()) else { return Ok(false) };
                match is_content(self.keys, source, &mut file, content) {
                    Err(ClientError::Damaged | ClientError::Format(_)) => Ok(false),
                    other => Ok(other?.unwrap_or(false)),
                }
            }
            EntryKind::Symlink => {
                let target = fs::read_link(way.path()).map(|target| name_bytes(target.as_os_str()).to_vec());
                Ok(target.ok().as_deref() == entry.target.as_ref().map(|target| &target[..]))
            }
            EntryKind::CharDevice | EntryKind::BlockDevice => Ok(there.device == entry.device),
            EntryKind::Fifo | EntryKind::Socket => Ok(true),
            EntryKind::File | EntryKind::Directory => Ok(false),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn suffixed(name: &str, is_folder: bool) -> String {
        with_suffix(&Path::new("/home/aud").join(name), " (2026-11-20 14.00)", is_folder).display().to_string()
    }

    #[test]
    fn a_name_beside_has_the_time_before_what_tells_programs_what_it_is() {
        assert_eq!(suffixed("plan.odt", false), "/home/aud/plan (2026-11-20 14.00).odt");
        assert_eq!(suffixed("plan", false), "/home/aud/plan (2026-11-20 14.00)");
        assert_eq!(suffixed(".profile", false), "/home/aud/.profile (2026-11-20 14.00)");
        assert_eq!(suffixed("photos.2026", true), "/home/aud/photos.2026 (2026-11-20 14.00)");
        assert_eq!(
            suffixed("minutes of the 3. meeting in spring", false),
            "/home/aud/minutes of the 3. meeting in spring (2026-11-20 14.00)"
        );
    }

    #[test]
    fn a_name_that_would_be_too_long_is_shortened_between_two_letters() {
        let long = suffixed(&("ø".repeat(126) + ".odt"), false);
        let name = long.rsplit('/').next().expect("a name");
        assert!(name.len() <= LONGEST_NAME && name.ends_with("ø (2026-11-20 14.00).odt"), "{name}");
    }

    #[test]
    fn further_names_have_a_number() {
        let name = Name { wanted: "/a/b.c".into(), time: "now".into(), number: 0, keeps_both: true, is_folder: false };
        let next = name.next().expect("both are kept");
        let after = next.next().expect("both are kept");
        let shown = [&name, &next, &after].map(|name| name.path().display().to_string());
        assert_eq!(shown, ["/a/b.c", "/a/b (now).c", "/a/b (now, 2).c"]);
        assert_eq!(Name { keeps_both: false, ..name }.next(), None);
    }

    /// Somebody may make a file while the restore goes on.
    #[test]
    fn a_name_that_is_taken_in_the_last_moment_is_not_written_over() {
        let directory = tempfile::tempdir().expect("a directory");
        let at = |name: &str| directory.path().join(name);
        let (folders, kept_both) = (PinnedFolders::default(), KeptBoth::default());
        for (keeps_both, placed) in [(true, Some("plan (now).odt")), (false, None)] {
            fs::write(at("whole"), "restored").expect("written");
            let wanted = at("plan.odt");
            let destination =
                Destination::New(Name { wanted: wanted.clone(), time: "now".into(), number: 0, keeps_both, is_folder: false });
            fs::write(&wanted, "somebody's").expect("written");
            let taken = destination.take(&folders, &at("whole"), &kept_both);
            assert_eq!(fs::read(&wanted).expect("there"), b"somebody's");
            match placed {
                Some(placed) => {
                    taken.expect("beside");
                    assert_eq!(fs::read(at(placed)).expect("there"), b"restored");
                    assert_eq!(kept_both.take(), [(wanted, at(placed))]);
                }
                None => assert_eq!(taken.expect_err("refused").kind(), io::ErrorKind::AlreadyExists),
            }
        }
    }
}
