//! Walking the point: makes folders, and says which chunks go where.

use std::collections::HashMap;
use std::fs;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;

use crossbeam_channel::Sender;
use jetfrost_image::format::{Content, Entry, EntryKind, LargeAttribute};
use jetfrost_image::tree::{ChunkSource, expand_parts, read_listing};
use jetfrost_platform::{Restored, make_special, path_bytes, path_of};

use super::batch::Batch;
use super::file::FileJob;
use super::file::Piece;
use super::journal::{Journal, partial_name};
use super::pinned::PinnedFolders;
use super::place::{Destination, Place, Placing};
use super::put::MetadataApplier;
use super::{KeptBoth, Result, STAYED, Sample, Target, Trouble, Troubles, Wish};
use crate::browse::{Browser, BrowserSource, OpenPoint, find};
use crate::entries::special;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::scan::MOST_VALUES;

/// A batch goes out when it has this many bytes of content, or pieces.
const BATCH_BYTES: u64 = 8 << 20;
const BATCH_PIECES: usize = 1024;
/// Folders whose listings are fetched in one call.
const FOLDERS: usize = 128;

/// What a plan goes by.
pub(super) struct With<'p> {
    pub(super) placing: Placing<'p>,
    pub(super) pinned: Arc<PinnedFolders>,
    /// The directory that all of it goes into or below.
    pub(super) base: &'p Path,
    /// Of files only those that were drawn.
    pub(super) sample: Option<Sample>,
    pub(super) kept_both: KeptBoth,
}

/// Walks the point.
pub(super) struct Planner<'p> {
    source: Rc<BrowserSource<'p>>,
    wish: &'p Wish,
    with: With<'p>,
    meter: &'p Arc<Meter>,
    troubles: &'p Troubles,
    applier: &'p MetadataApplier,
    batches: Sender<Batch>,
    batch: Batch,
    batch_bytes: u64,
    number: u64,
    journal: Journal,
    /// Folders that are still to be gone through, with where they go; the last ones first.
    folders: Vec<(Entry, PathBuf)>,
    rest: Rest,
}

/// What can only be done when all files are in place.
#[derive(Default)]
pub(super) struct Rest {
    /// First path of a file that has several.
    first: HashMap<(u64, u64), PathBuf>,
    /// Further names of such files: name, first path.
    links: Vec<(PathBuf, PathBuf)>,
    /// Folders that were made, outer ones first.
    folders: Vec<(PathBuf, Entry)>,
    /// What was there already.
    already_there: u64,
    journal: Journal,
    pinned: Arc<PinnedFolders>,
}

impl Rest {
    pub(super) fn already_there(&self) -> u64 {
        self.already_there
    }

    /// Makes the links, then dresses the folders from the inside out, so that times stay as they were. What is to last is on the disk
    /// before it counts as done: `lasting` is the directory that it is in.
    pub(super) fn complete(
        mut self,
        browser: &Browser,
        applier: &MetadataApplier,
        troubles: &Troubles,
        lasting: Option<&Path>,
    ) -> Result<()> {
        for (path, first) in &self.links {
            if let Err(error) = self.link(first, path) {
                troubles.add(path, Trouble::System, format!("the link to {} could not be made: {error}", first.display()));
            }
        }
        let source = browser.source();
        for (path, mut entry) in std::mem::take(&mut self.folders).into_iter().rev() {
            load_attributes(&source, &mut entry, &path, troubles)?;
            dress(&self.pinned, applier, &path, &entry);
        }
        if let Some(base) = lasting {
            self.pinned.sync_below(base).map_err(ClientError::file("writing", base))?;
        }
        self.journal.end();
        Ok(())
    }

    fn link(&self, first: &Path, path: &Path) -> io::Result<()> {
        fs::hard_link(self.pinned.way(first)?.path(), self.pinned.way(path)?.path())
    }

    /// The restore did not come to its end: gives the folders what can be given without the service, so that nothing stays closed.
    /// The journal stays, and the next restore goes on; if nothing was put in place there is nothing to go on with.
    pub(super) fn leave_unfinished(self, applier: &MetadataApplier, put_in_place: u64) {
        let is_untouched = self.folders.is_empty() && put_in_place == 0;
        for (path, entry) in self.folders.into_iter().rev() {
            dress(&self.pinned, applier, &path, &entry);
        }
        if is_untouched {
            self.journal.end_if_new();
        }
    }
}

impl<'p> Planner<'p> {
    pub(super) fn new(
        browser: &'p Browser,
        wish: &'p Wish,
        with: With<'p>,
        meter: &'p Arc<Meter>,
        applier: &'p MetadataApplier,
        journal: Journal,
        batches: Sender<Batch>,
    ) -> Self {
        journal.compact(with.base);
        Self {
            journal,
            source: Rc::new(browser.source()),
            wish,
            with,
            meter,
            troubles: applier.troubles(),
            applier,
            batches,
            batch: Batch::new(),
            batch_bytes: 0,
            number: 0,
            folders: Vec::new(),
            rest: Rest::default(),
        }
    }

    pub(super) fn plan(&mut self, point: &OpenPoint) -> Result<()> {
        let (wish, root) = (self.wish, point.body.root.clone());
        let into = match &wish.target {
            Target::Into(directory) => directory.as_path(),
            Target::Original | Target::Beside => Path::new("/"),
        };
        if wish.paths.is_empty() {
            self.listing(&root, into)?;
            return self.go_through_folders();
        }
        for path in &wish.paths {
            match find(&self.source, point, path_bytes(path))? {
                None => self.listing(&root, into)?,
                Some(entry) => self.asked_for(point, path, entry)?,
            }
            self.go_through_folders()?;
        }
        Ok(())
    }

    /// Plans what was asked for by its path.
    fn asked_for(&mut self, point: &OpenPoint, path: &Path, entry: Entry) -> Result<()> {
        let target = match &self.wish.target {
            Target::Into(directory) => directory.join(path_of(&entry.name)),
            Target::Original | Target::Beside if self.make_parents(point, path)? => path.to_owned(),
            Target::Original | Target::Beside => return Ok(()),
        };
        let beside = self.wish.target == Target::Beside;
        if entry.kind == EntryKind::Directory { self.folder(entry, &target, beside) } else { self.leaf(entry, &target, beside) }
    }

    /// Makes the folders that a path is in, as far as they are gone. Returns whether they are there: a link in place of one leads
    /// elsewhere, and what it leads to may be somebody else's.
    fn make_parents(&mut self, point: &OpenPoint, path: &Path) -> Result<bool> {
        let parents: Vec<PathBuf> = path.ancestors().skip(1).map(Path::to_path_buf).collect();
        for folder in parents.into_iter().rev().skip(1) {
            match self.with.pinned.folder(&folder) {
                Ok(_) => {}
                Err(error) if error.kind() == ErrorKind::NotADirectory => {
                    let what = format!("{} is no folder any more, or a link; restore to another directory", folder.display());
                    self.troubles.add(path, Trouble::Exists, what);
                    return Ok(false);
                }
                Err(error) if error.kind() == ErrorKind::NotFound => match find(&self.source, point, path_bytes(&folder))? {
                    Some(entry) => {
                        if !self.make(&folder, entry) {
                            return Ok(false);
                        }
                    }
                    None => return Ok(false),
                },
                Err(error) => {
                    self.troubles.system(&folder, &error);
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Makes a folder; returns whether that went well.
    fn make(&mut self, folder: &Path, entry: Entry) -> bool {
        let temporary = self.temporary(folder);
        let note = |number| self.journal.note(self.with.base, folder, number);
        if let Err(error) = self.with.pinned.make(folder, &temporary, note) {
            self.troubles.system(folder, &error);
            return false;
        }
        self.rest.folders.push((folder.into(), entry));
        true
    }

    /// Goes through the folders that were found, and those found in them. Many listings come in one call.
    fn go_through_folders(&mut self) -> Result<()> {
        while !self.folders.is_empty() {
            let some = self.folders.split_off(self.folders.len().saturating_sub(FOLDERS));
            Rc::clone(&self.source).fetch_ahead(some.iter().filter_map(|(folder, _)| folder.content.as_ref()))?;
            for (folder, target) in some {
                self.folder(folder, &target, false)?;
            }
        }
        Ok(())
    }

    /// Sends what has come together.
    pub(super) fn flush(&mut self) -> Result<()> {
        if self.batch.is_empty() {
            return Ok(());
        }
        self.batch_bytes = 0;
        // The channel closes when all workers failed; they tell why.
        self.batches.send(std::mem::take(&mut self.batch)).map_err(|_| ClientError::Stopped)
    }

    pub(super) fn finish(self) -> Rest {
        Rest { journal: self.journal, pinned: self.with.pinned, ..self.rest }
    }

    /// Plans what is in a listing; folders in it wait for their turn.
    fn listing(&mut self, listing: &Content, into: &Path) -> Result<()> {
        let source = Rc::clone(&self.source);
        let read = read_listing(&*source, listing, &mut |entry| {
            if self.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            let target = into.join(path_of(&entry.name));
            if entry.kind == EntryKind::Directory {
                self.folders.push((entry, target));
                return Ok(());
            }
            self.leaf(entry, &target, false)
        });
        match read {
            Err(ClientError::Damaged | ClientError::Format(_)) => {
                self.troubles.add(
                    into,
                    Trouble::Damaged,
                    "part of this folder's listing is damaged or missing in the image store",
                );
            }
            other => other?,
        }
        Ok(())
    }

    fn folder(&mut self, entry: Entry, wanted: &Path, beside: bool) -> Result<()> {
        let listing = entry.content.clone().unwrap_or_else(Content::empty);
        let partial = entry.flags().partial;
        let target = match self.with.placing.find(&*self.source, &self.journal, &entry, wanted, beside)? {
            Place::Merged(target) => {
                let is_ours = self.journal.made(&target, &entry);
                if is_ours && let Err(error) = self.journal.enter_again(&target) {
                    self.troubles.system(&target, &error);
                    return Ok(());
                }
                if is_ours || self.with.placing.replaces() {
                    self.rest.folders.push((target.clone(), entry));
                }
                self.journal.compact(&target);
                target
            }
            Place::Free(name) => {
                let target = name.path();
                if !self.make(&target, entry) {
                    return Ok(());
                }
                name.note(&target, &self.with.kept_both);
                target
            }
            Place::Over(_) | Place::There(_) | Place::Skipped => {
                self.troubles.add(wanted, Trouble::Exists, "something that is not a folder has this name");
                return Ok(());
            }
        };
        if partial {
            self.troubles.add(&target, Trouble::Unsettled, "this folder could not be listed whole when it was backed up");
        }
        self.listing(&listing, &target)
    }

    fn leaf(&mut self, mut entry: Entry, wanted: &Path, beside: bool) -> Result<()> {
        let within = path_bytes(wanted.strip_prefix(self.with.base).unwrap_or(wanted));
        if self.with.sample.as_ref().is_some_and(|sample| !sample.takes(within, &entry)) {
            return Ok(());
        }
        let destination = match self.with.placing.find(&*self.source, &self.journal, &entry, wanted, beside)? {
            Place::Free(name) => Destination::New(name),
            Place::Over(path) => Destination::Over(path),
            Place::There(path) => {
                entry.links.map(|file| self.rest.first.entry(file).or_insert(path));
                self.rest.already_there += 1;
                if entry.kind == EntryKind::File {
                    self.meter.bytes_done(entry.len());
                    self.meter.file_done();
                }
                return Ok(());
            }
            Place::Merged(_) | Place::Skipped => {
                self.troubles.add(wanted, Trouble::Exists, STAYED);
                return Ok(());
            }
        };
        let target = destination.path();
        if let Some(file) = entry.links {
            if let Some(first) = self.rest.first.get(&file) {
                let link = (target.clone(), first.clone());
                if let Destination::Over(path) = &destination {
                    // What is replaced must be gone before the link is made.
                    let _ = self.with.pinned.way(path).and_then(|way| fs::remove_file(way.path()));
                }
                self.rest.links.push(link);
                self.meter.file_done();
                return Ok(());
            }
            self.rest.first.insert(file, target.clone());
        }
        self.batch_bytes += load_attributes(&Rc::clone(&self.source), &mut entry, &target, self.troubles)?;
        match entry.kind {
            EntryKind::File => self.file(entry, destination),
            _ => {
                self.special(&entry, &destination);
                Ok(())
            }
        }
    }

    fn special(&mut self, entry: &Entry, destination: &Destination) {
        if self.applier.leaves_out(entry.kind) {
            return;
        }
        let target = destination.path();
        let temporary = self.temporary(&target);
        if let Err(error) = self.make_special(entry, destination, &temporary) {
            let _ = self.with.pinned.way(&temporary).and_then(|way| fs::remove_file(way.path()));
            self.troubles.system(&target, &error);
        }
    }

    fn make_special(&self, entry: &Entry, destination: &Destination, temporary: &Path) -> io::Result<()> {
        let pinned = &self.with.pinned;
        make_special(pinned.way(temporary)?.path(), special(entry))?;
        let made = pinned.made_special(temporary)?;
        self.applier.apply(&Restored::Node(&made), &destination.path(), entry);
        destination.take(pinned, temporary, &self.with.kept_both)
    }

    fn file(&mut self, entry: Entry, destination: Destination) -> Result<()> {
        let content = entry.content.clone().unwrap_or_else(Content::empty);
        let target = &destination.path();
        let job = Arc::new(FileJob::new(
            destination,
            self.temporary(target),
            entry,
            Arc::clone(&self.with.pinned),
            self.with.kept_both.clone(),
        ));
        let source = Rc::clone(&self.source);
        let mut offset = 0;
        let expanded = expand_parts(&*source, &content, &mut |part| {
            if let Some(name) = part.name {
                job.expect_piece();
                self.batch.push(Piece { job: Arc::clone(&job), offset, name });
                self.batch_bytes += part.len;
                if self.batch_bytes >= BATCH_BYTES || self.batch.len() >= BATCH_PIECES {
                    self.flush()?;
                }
            }
            offset += part.len;
            Ok(())
        });
        match expanded {
            Err(ClientError::Damaged | ClientError::Format(_)) => {
                job.fail();
                self.troubles.add(target, Trouble::Damaged, "the list of its pieces is damaged or missing in the image store");
            }
            other => other?,
        }
        job.piece_done(self.applier, self.troubles, self.meter);
        Ok(())
    }

    /// A name beside the target that nothing has.
    fn temporary(&mut self, target: &Path) -> PathBuf {
        self.number += 1;
        target.with_file_name(partial_name(self.number))
    }
}

/// Gives a folder that was made all but its content.
fn dress(pinned: &PinnedFolders, applier: &MetadataApplier, folder: &Path, entry: &Entry) {
    match pinned.node(folder) {
        Ok(node) => applier.apply(&Restored::Node(&node), folder, entry),
        Err(error) => applier.troubles().system(folder, &error),
    }
}

/// Brings the values of large attributes into the entry. Returns their bytes.
fn load_attributes(source: &BrowserSource<'_>, entry: &mut Entry, target: &Path, troubles: &Troubles) -> Result<u64> {
    let mut bytes = 0;
    for LargeAttribute { name, value } in entry.large_xattrs.take().unwrap_or_default() {
        let shown = String::from_utf8_lossy(&name).into_owned();
        if value.len > MOST_VALUES as u64 - bytes {
            troubles.add(target, Trouble::System, format!("its attribute {shown} is longer than this program brings back"));
            continue;
        }
        match gather(source, &value) {
            Ok(found) => {
                bytes += value.len;
                entry.xattrs.get_or_insert_default().push((name, found.into()));
            }
            Err(ClientError::Damaged | ClientError::Format(_)) => {
                troubles.add(target, Trouble::Damaged, format!("its attribute {shown} is damaged or missing in the image store"));
            }
            Err(other) => return Err(other),
        }
    }
    Ok(bytes)
}

/// The bytes of a value; the caller has judged how many it claims to be.
fn gather(source: &impl ChunkSource<Error = ClientError>, value: &Content) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    expand_parts(source, value, &mut |part| {
        match part.name {
            Some(name) => {
                let content = source.get(&name)?;
                // What says that it is short must not take memory without bound.
                if content.len() as u64 != part.len {
                    return Err(ClientError::Damaged);
                }
                bytes.extend(content);
            }
            None => bytes.resize(bytes.len() + usize::try_from(part.len).unwrap_or(0), 0),
        }
        Ok(())
    })?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use jetfrost_image::ChunkName;
    use jetfrost_image::format::Part;

    use super::*;

    const NAME: ChunkName = ChunkName([5; 32]);

    /// Has one chunk.
    struct One(Vec<u8>);

    impl ChunkSource for One {
        type Error = ClientError;

        fn get(&self, _: &ChunkName) -> Result<Vec<u8>> {
            Ok(self.0.clone())
        }
    }

    fn value(len: u64, parts: &[u64]) -> Content {
        Content { len, depth: 0, parts: parts.iter().map(|len| Part { len: *len, name: Some(NAME) }).collect() }
    }

    #[test]
    fn a_forged_attribute_takes_no_more_memory_than_it_claims() {
        let source = One(vec![7; 1000]);
        assert_eq!(gather(&source, &value(2000, &[1000, 1000])).expect("whole").len(), 2000);
        // A chunk that is longer than the part it stands for, and one that is shorter.
        for claimed in [1, 999, 1001] {
            assert!(matches!(gather(&source, &value(claimed, &[claimed])), Err(ClientError::Damaged)), "{claimed}");
        }
        // Lengths that do not add up, or only past the largest number.
        for forged in [value(10, &[1000]), value(1000, &[u64::MAX, 1001]), value(u64::MAX, &[u64::MAX])] {
            assert!(matches!(gather(&source, &forged), Err(ClientError::Format(_))), "{forged:?}");
        }
    }
}
