//! The walk: every chosen name once, in order, into a tree.

use std::collections::HashSet;
use std::io::{Seek, SeekFrom};
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Cause, Content, Entry, EntryKind, EntryPage, Flags};
use jetfrost_image::tree::{ChunkBuffer, ChunkSink, Chunker, ListingWriter};
use jetfrost_platform::{Accounts, Devices, Directory, FileContent, FileKind, Metadata, OpenDirectory, System, reason};
use jetfrost_types::Changes;

use super::attributes::{self, Attributes, attributes_of};
use super::change_cache::{ChangeCacheWriter, FolderId, Remembered, RememberedFolder, RememberedInside, SeenFolder, WalkReader};
use super::change_profile::{ChangeProfile, FileSeen};
use super::dir_reader::{DEEPEST, DirEntry, Inside, Reading, Seen, Sights, View, look_ahead};
use super::extents::{DiskRead, Extents, Held, read_extents};
use super::facts::{Links, Owners, Stamp, entry};
use super::file::{ReadFailure, read_file};
use super::form::Form;
use super::{Counts, Exceptions};
use crate::error::ClientError;
use crate::progress::Meter;

type Result<T> = std::result::Result<T, ClientError>;

/// A walk through what was chosen.
pub(crate) struct Walk<'w, S> {
    keys: &'w StoreKeys,
    view: View<'w>,
    sink: Noting<'w, S>,
    cache: Option<WalkReader>,
    /// How this walk differs from the last, as long as that is known.
    profile: Option<ChangeProfile>,
    /// When it began, in seconds since 1970.
    began: i64,
    /// Chunks that the service lost: what they belong to is read again, though it did not change.
    lost: HashSet<ChunkName>,
    writer: ChangeCacheWriter,
    meter: Arc<Meter>,
    chunker: Chunker,
    owners: Owners,
    /// The account and group that it runs as.
    own_ids: (u32, u32),
    links: Links,
    counts: Counts,
    exceptions: Exceptions,
    path: Vec<u8>,
    /// The folder that the walk is in.
    place: Place,
    /// Folders that differ although the system told of no change in them.
    surprises: Vec<FolderId>,
}

/// A folder that is walked.
#[derive(Debug, Clone, Copy)]
struct Place {
    id: FolderId,
    /// Something in it has to be looked at the next time.
    look_again: bool,
    /// What the system told of is all that may differ in it.
    should_be_unchanged: bool,
}

/// What a walk came to.
pub(crate) struct WalkResult {
    pub(crate) root: Content,
    pub(crate) counts: Counts,
    pub(crate) exceptions: Exceptions,
    /// Names of all chunks behind the root, in no order, some more than once.
    pub(crate) needed: Vec<ChunkName>,
    /// Of a walk that took folders over: names of chunks behind what it looked at, as it was before. `needed` has no others then.
    pub(crate) passed: Option<Vec<ChunkName>>,
    /// Folders that differ although the system told of no change in them.
    pub(crate) surprises: Vec<FolderId>,
    /// How its files differ from those of the last walk; none where that is not known.
    pub(crate) changes: Option<Changes>,
    pub(crate) writer: ChangeCacheWriter,
}

/// The listing of a folder in the making, and the chunks that it consists of.
#[derive(Default)]
struct Listing {
    entries: ListingWriter,
    own: Vec<ChunkName>,
}

/// What came of reading something's content.
struct ContentRead {
    content: Content,
    /// As it was when it was read.
    metadata: Metadata,
    /// Whether it kept changing meanwhile.
    unsettled: bool,
    /// Of a disk: what each extent holds.
    extents: Extents,
    /// Of a file: its extended attributes.
    attributes: Option<std::io::Result<Attributes>>,
}

/// A sink that notes every name that passes.
pub(crate) struct Noting<'w, S> {
    inner: &'w mut S,
    needed: Vec<ChunkName>,
    /// What the content that passes began with.
    form: Option<Form>,
}

impl<'w, S> Noting<'w, S> {
    pub(crate) fn new(inner: &'w mut S) -> Self {
        Self { inner, needed: Vec::new(), form: None }
    }
}

impl<S: ChunkSink<Error = ClientError>> ChunkSink for Noting<'_, S> {
    type Error = ClientError;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<()> {
        self.needed.push(name);
        self.form.get_or_insert_with(|| Form::of(content));
        self.inner.put(name, content)
    }

    fn put_buffer(&mut self, name: ChunkName, buffer: &mut ChunkBuffer, len: usize) -> Result<()> {
        self.needed.push(name);
        self.form.get_or_insert_with(|| Form::of(&buffer[..len]));
        self.inner.put_buffer(name, buffer, len)
    }
}

impl<'w, S: ChunkSink<Error = ClientError>> Walk<'w, S> {
    pub(crate) fn new(
        keys: &'w StoreKeys,
        view: View<'w>,
        sink: &'w mut S,
        cache: Option<WalkReader>,
        writer: ChangeCacheWriter,
        meter: Arc<Meter>,
    ) -> Self {
        let began = seconds_now();
        let (mut cache, is_of_files) = (cache, view.reading == Reading::Files);
        if let Some(cache) = cache.as_mut().filter(|_| is_of_files) {
            cache.note_what_is_gone(began);
        }
        Self {
            profile: cache.as_ref().filter(|_| is_of_files).map(|_| ChangeProfile::default()),
            began,
            keys,
            view,
            sink: Noting::new(sink),
            cache,
            lost: HashSet::new(),
            writer,
            meter,
            chunker: Chunker::new(keys.border_seed()),
            owners: Owners::default(),
            own_ids: System::own_ids(),
            links: Links::default(),
            counts: Counts::default(),
            exceptions: Exceptions::default(),
            path: Vec::new(),
            place: Place { id: FolderId { volume: 0, file: 0 }, look_again: false, should_be_unchanged: false },
            surprises: Vec::new(),
        }
    }

    /// Reads again what these chunks belong to.
    pub(crate) fn reading_again(mut self, lost: HashSet<ChunkName>) -> Self {
        self.lost = lost;
        self
    }

    /// Walks from the root, while another thread looks ahead.
    pub(crate) fn run(mut self) -> Result<WalkResult> {
        let root = std::thread::scope(|scope| {
            let (root, mut sights) = look_ahead(scope, self.view).map_err(|e| ClientError::file("opening", "/")(e))?;
            let itself = root.metadata().map_err(ClientError::file("reading", "/"))?;
            self.place.id = FolderId::of(&self.view.stand_ins.as_seen_there(itself));
            self.place.should_be_unchanged = self.should_be_unchanged(self.place.id);
            self.listing(&root, &mut sights).map(|(root, _)| root)
        })?;
        let (passed, not_come_to) = match (self.cache.map(WalkReader::passed), self.view.known) {
            (None, Some(_)) => return Err(ClientError::CacheDamaged),
            (Some((passed, not_come_to)), known) => (known.map(|_| passed), Some(not_come_to)),
            (None, None) => (None, None),
        };
        let changes = self.profile.zip(not_come_to).map(|(profile, gone)| profile.finish(gone));
        Ok(WalkResult {
            root,
            counts: self.counts,
            exceptions: self.exceptions,
            needed: self.sink.needed,
            passed,
            surprises: self.surprises,
            changes,
            writer: self.writer,
        })
    }

    /// Whether what the system told of leaves out a folder, so that nothing of it may differ.
    fn should_be_unchanged(&self, id: FolderId) -> bool {
        self.view.known.is_some_and(|known| known.should_be_unchanged(id))
    }

    /// Notes that something in the present folder differs from what was remembered.
    fn differs(&mut self) {
        if self.place.should_be_unchanged {
            self.surprises.push(self.place.id);
            self.place.should_be_unchanged = false;
        }
    }

    /// Notes something that the point does not hold as it was: it is looked at again the next time.
    fn except(&mut self, cause: Cause, explanation: impl Into<String>) {
        self.place.look_again = true;
        self.exceptions.add(cause, &self.path, explanation);
    }

    fn failed(&mut self, error: &std::io::Error) {
        self.place.look_again = true;
        self.exceptions.failed(&self.path, error);
    }

    /// The listing of an open folder, and how it is remembered.
    fn listing(&mut self, folder: &Directory, sights: &mut Sights) -> Result<(Content, RememberedInside)> {
        let before = self.counts;
        let mut listing = Listing::default();
        self.writer.enter();
        loop {
            if self.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            match sights.next() {
                Some(DirEntry::Leave) => break,
                Some(entry_seen) => self.entry_seen(folder, entry_seen, sights, &mut listing)?,
                None => return Err(ClientError::Unexpected("the thread that looks ahead ended too early".into())),
            }
        }
        if self.remembered(WalkReader::leave) == Some(false) {
            self.differs();
        }
        let begun = self.sink.needed.len();
        let content = listing.entries.finish(self.keys, &mut self.sink)?;
        listing.own.extend(&self.sink.needed[begun..]);
        let counts = self.counts.since(&before);
        let inside = self.remember(|writer| writer.leave(&listing.own, counts))?;
        Ok((content, inside))
    }

    /// Adds an encoded entry to a listing.
    fn list(&mut self, listing: &mut Listing, name: &[u8], entry: &[u8]) -> Result<()> {
        let begun = self.sink.needed.len();
        listing.entries.push_encoded(self.keys, &mut self.sink, name, entry)?;
        listing.own.extend(&self.sink.needed[begun..]);
        Ok(())
    }

    /// Takes what was seen into the listing of the folder it is in.
    fn entry_seen(&mut self, parent: &Directory, entry_seen: DirEntry, sights: &mut Sights, listing: &mut Listing) -> Result<()> {
        match entry_seen {
            DirEntry::Leaf(seen, kind) => self.at(&seen.name, |walk| {
                let Some(entry) = walk.leaf(parent, &seen, kind)? else { return Ok(()) };
                walk.list(listing, &seen.name, &entry)
            })?,
            DirEntry::Folder(seen, inside) => self.at(&seen.name, |walk| {
                let entry = walk.folder(parent, &seen, inside, sights)?;
                walk.list(listing, &seen.name, &entry)
            })?,
            DirEntry::Unseen(name, error) => self.at(&name, |walk| walk.failed(&error)),
            DirEntry::Unfit(name, why) => self.at(&name, |walk| walk.except(Cause::Unreadable, why)),
            DirEntry::LeftOut => self.counts.skipped += 1,
            DirEntry::Leave => {}
        }
        Ok(())
    }

    /// Does something at the path of a name in the present folder.
    fn at<T>(&mut self, name: &[u8], act: impl FnOnce(&mut Self) -> T) -> T {
        let length = self.path.len();
        self.path.push(b'/');
        self.path.extend(name);
        let done = act(self);
        self.path.truncate(length);
        done
    }

    fn folder(&mut self, parent: &Directory, seen: &Seen, inside: Inside, sights: &mut Sights) -> Result<Vec<u8>> {
        let known = self.remembered(|cache| cache.folder(&seen.name)).flatten();
        if matches!(inside, Inside::TakenOver) {
            return self.taken_over(seen, known);
        }
        let first_name = self.sink.needed.len();
        let mut entry = entry(&seen.name, EntryKind::Directory, &seen.metadata, &mut self.owners);
        let attributes = match &inside {
            Inside::Open(folder) => attributes_of(&folder.itself()),
            _ => attributes_of(&parent.named(&seen.name)),
        };
        self.add_attributes(&mut entry, attributes)?;
        let names = self.sink.needed[first_name..].to_vec();
        self.counts.folders += 1;
        let mut present = RememberedFolder { stamp: Stamp::of(&seen.metadata), entry: Vec::new(), names, inside: None };
        let (content, whole) = match inside {
            Inside::Open(folder) => {
                let (content, inside) = self.inside(&folder, seen, known, sights)?;
                present.inside = Some(inside);
                (content, true)
            }
            Inside::OtherVolume => {
                self.counts.mounts += 1;
                self.pass_by(known, WalkReader::lose)?;
                (Content::empty(), true)
            }
            Inside::TooDeep => {
                self.pass_by(known, WalkReader::lose_sight)?;
                let what = format!("it lies within more than {DEEPEST} folders, and what is in it is not backed up");
                self.except(Cause::Unreadable, what);
                (Content::empty(), false)
            }
            Inside::Closed(error) => {
                self.failed(&error);
                self.pass_by(known, WalkReader::lose_sight)?;
                (Content::empty(), false)
            }
            Inside::TakenOver => return Err(ClientError::CacheDamaged),
        };
        entry.set_flags(Flags { unsettled: false, partial: !whole });
        entry.content = Some(content);
        present.entry = entry.to_bytes();
        self.remember(|writer| writer.folder(&seen.name, &present))?;
        Ok(present.entry)
    }

    /// A folder that is as it was, with all below it.
    fn taken_over(&mut self, seen: &Seen, known: Option<RememberedFolder>) -> Result<Vec<u8>> {
        let is_as_it_was = |known: &RememberedFolder| known.stamp == Stamp::of(&seen.metadata);
        let known = known.filter(is_as_it_was).ok_or(ClientError::CacheDamaged)?;
        let inside = known.inside.ok_or(ClientError::CacheDamaged)?;
        self.counts.folders += 1;
        self.counts.add(&inside.counts);
        self.meter.taken_over(inside.counts.files, inside.counts.bytes);
        self.sink.needed.extend(&known.names);
        self.remember(|writer| writer.folder(&seen.name, &known))?;
        Ok(known.entry)
    }

    /// Passes by what was remembered of a folder that is not gone into.
    fn pass_by(
        &mut self,
        known: Option<RememberedFolder>,
        pass: fn(&mut WalkReader, &RememberedFolder) -> std::io::Result<()>,
    ) -> Result<()> {
        match known {
            Some(known) => self.remembered(|cache| pass(cache, &known)).map_or_else(|| self.without_cache(), Ok),
            None => Ok(()),
        }
    }

    fn inside(
        &mut self,
        folder: &Directory,
        seen: &Seen,
        known: Option<RememberedFolder>,
        sights: &mut Sights,
    ) -> Result<(Content, RememberedInside)> {
        // A folder that is not remembered is walked without the cache, and the cache waits where it is.
        let remembered = known.as_ref().and_then(|known| known.inside);
        let is_entered = remembered.is_some_and(|inside| self.remembered(|cache| cache.enter(&inside)).is_some());
        if !is_entered {
            self.differs();
        }
        let (id, stamp) = (FolderId::of(&seen.metadata), Stamp::of(&seen.metadata));
        let before = known.filter(|known| is_entered && FolderId::of_stamp(&known.stamp) == id);
        let mut place = Place { should_be_unchanged: before.is_some() && self.should_be_unchanged(id), id, look_again: false };
        if place.should_be_unchanged && before.is_some_and(|before| before.stamp != stamp) {
            self.surprises.push(id);
            place.should_be_unchanged = false;
        }
        let around = std::mem::replace(&mut self.place, place);
        let waiting = if is_entered { None } else { self.cache.take() };
        let result = self.listing(folder, sights);
        if !is_entered {
            self.cache = waiting;
        }
        let look_again = std::mem::replace(&mut self.place, around).look_again;
        let seen = SeenFolder { stamp, parent: self.place.id, name: seen.name.clone(), look_again };
        self.remember(|writer| writer.folder_seen(&seen))?;
        result
    }

    /// The encoded entry of what is no folder; `None` when it could not be read.
    fn leaf(&mut self, parent: &Directory, seen: &Seen, kind: EntryKind) -> Result<Option<Vec<u8>>> {
        let Seen { name, metadata } = seen;
        let known = self.remembered(|cache| cache.leaf(name)).flatten();
        let is_whole = |known: &Remembered| self.lost.is_empty() || known.names.iter().all(|name| !self.lost.contains(name));
        let is_unchanged = known.as_ref().is_some_and(|known| known.stamp == Stamp::of(metadata) && is_whole(known));
        if !is_unchanged && known.as_ref().is_none_or(|known| known.stamp != Stamp::default()) {
            self.differs();
        }
        if self.view.known.is_some() && metadata.links > 1 && !had_links(known.as_ref())? {
            return Err(ClientError::HintsNotEnough);
        }
        let present = match known {
            Some(known) if is_unchanged => {
                self.sink.needed.extend(&known.names);
                self.meter.bytes_done(known.bytes);
                self.with_sound_links(known, metadata)?
            }
            known => {
                let before = known.as_ref().and_then(|known| self.seen_before(name, known));
                let mut extents = known.map_or_else(Extents::new, |known| known.extents);
                extents.iter_mut().for_each(|extent| *extent = extent.filter(|held| !self.lost.contains(&held.name)));
                match self.read_leaf(parent, name, kind, metadata, &extents)? {
                    Some(read) => {
                        self.compare(before, name, &read);
                        read
                    }
                    None => return Ok(None),
                }
            }
        };
        if self.is_read(kind) {
            self.counts.files += 1;
            self.counts.bytes += present.bytes;
            self.meter.file_done();
        }
        // Another name of the file may lie in a folder that is not looked at; from then on all of them are.
        self.place.look_again |= present.stamp == Stamp::default() || metadata.links > 1 || self.may_be_open_unseen(metadata);
        self.remember(|writer| writer.leaf(name, &present))?;
        Ok(Some(present.entry))
    }

    /// A file as it was, while differences are counted.
    fn seen_before(&self, name: &[u8], known: &Remembered) -> Option<FileSeen> {
        self.profile.as_ref().and_then(|_| FileSeen::of(name, known, self.began))
    }

    fn compare(&mut self, before: Option<FileSeen>, name: &[u8], present: &Remembered) {
        if let Some(profile) = &mut self.profile {
            profile.compare(before, FileSeen::of(name, present, self.began));
        }
    }

    /// A file with several names is only told as one with another of them if it is the same.
    fn with_sound_links(&mut self, known: Remembered, metadata: &Metadata) -> Result<Remembered> {
        if metadata.links < 2 || self.links.is_same(&Stamp::of(metadata)) {
            return Ok(known);
        }
        let mut entries = EntryPage::read(&known.entry)?;
        entries.iter_mut().for_each(|entry| entry.links = None);
        Ok(Remembered { entry: entries.iter().flat_map(Entry::to_bytes).collect(), ..known })
    }

    /// Reads what is new or changed; `None` when it could not be read. `known` is what the last run saw of it, if it is a disk.
    fn read_leaf(
        &mut self,
        parent: &Directory,
        name: &[u8],
        kind: EntryKind,
        metadata: &Metadata,
        known: &[Option<Held>],
    ) -> Result<Option<Remembered>> {
        let first_name = self.sink.needed.len();
        self.sink.form = None;
        let mut metadata = *metadata;
        let (mut content, mut target, mut unsettled, mut extents, mut attributes) = (None, None, false, Extents::new(), None);
        match kind {
            EntryKind::File | EntryKind::BlockDevice if self.is_read(kind) => {
                match self.read_content(parent, name, kind, known) {
                    Ok(read) => {
                        metadata = self.view.stand_ins.as_seen_there(read.metadata);
                        (content, unsettled, extents) = (Some(read.content), read.unsettled, read.extents);
                        attributes = read.attributes;
                    }
                    Err(ReadFailure::File(error)) => {
                        self.sink.needed.truncate(first_name);
                        self.failed(&error);
                        return Ok(None);
                    }
                    Err(ReadFailure::Replaced) => {
                        self.sink.needed.truncate(first_name);
                        let what = "something else than a file took its place before it was read";
                        self.except(Cause::Disappeared, what);
                        return Ok(None);
                    }
                    Err(ReadFailure::Run(error)) => return Err(error),
                }
            }
            EntryKind::Symlink => match parent.link_target(name) {
                Ok(found) => target = Some(found),
                Err(error) => {
                    self.failed(&error);
                    return Ok(None);
                }
            },
            _ => {}
        }
        let mut entry = entry(name, kind, &metadata, &mut self.owners);
        if entry.links.is_some() && !self.links.is_same(&Stamp::of(&metadata)) {
            entry.links = None;
        }
        self.add_attributes(&mut entry, attributes.unwrap_or_else(|| attributes_of(&parent.named(name))))?;
        entry.target = target.map(Into::into);
        let bytes = content.as_ref().map_or(0, |c: &Content| c.len);
        entry.content = content;
        entry.set_flags(Flags { unsettled, partial: false });
        let mut stamp = Stamp::of(&metadata);
        if unsettled || kind == EntryKind::BlockDevice || !stamp.is_settled(now_ns()) {
            // It is read again the next time. What is on a device does not show in the device's own times.
            stamp = Stamp::default();
        }
        let names = self.sink.needed[first_name..].to_vec();
        let form = self.sink.form.filter(|_| bytes > 0).unwrap_or_default();
        Ok(Some(Remembered { stamp, bytes, form, entry: entry.to_bytes(), names, extents }))
    }

    /// Whether a program of another account may write to it while it is not seen that it has it open.
    fn may_be_open_unseen(&self, metadata: &Metadata) -> bool {
        let (uid, gid) = self.own_ids;
        let may_others_write =
            metadata.uid != uid || metadata.mode & 0o002 != 0 || (metadata.mode & 0o020 != 0 && metadata.gid != gid);
        !self.view.sees_all_programs && metadata.kind == Some(FileKind::File) && may_others_write
    }

    /// Whether something of this kind has content that is kept.
    fn is_read(&self, kind: EntryKind) -> bool {
        kind == EntryKind::File || (kind == EntryKind::BlockDevice && self.view.reading == Reading::Disks)
    }

    /// Reads content.
    fn read_content(
        &mut self,
        parent: &Directory,
        name: &[u8],
        kind: EntryKind,
        known: &[Option<Held>],
    ) -> std::result::Result<ContentRead, ReadFailure> {
        let before = self.sink.needed.len();
        let (parts, metadata, unsettled, extents, attributes) = match self.view.reading {
            Reading::Files => {
                let read = read_file(self.keys, &mut self.chunker, &mut self.sink, parent, name)?;
                if read.unsettled {
                    let what = "it kept changing while it was read; the last reading was backed up";
                    self.except(Cause::ChangedWhileRead, what);
                }
                (read.parts, read.metadata, read.unsettled, Extents::new(), Some(read.attributes))
            }
            Reading::Disks => {
                let (read, metadata, unsettled) = self.read_disk(parent, name, kind, known)?;
                (read.parts, metadata, unsettled, read.extents, None)
            }
        };
        // An attempt that was repeated has noted names that are not needed.
        self.sink.needed.truncate(before);
        self.sink.needed.extend(parts.iter().filter_map(|p| p.name));
        let (keys, sink) = (self.keys, &mut self.sink);
        let content = Content::from_parts(parts, |page| {
            let name = keys.name(&page);
            sink.put(name, &page).map(|()| name)
        })?;
        self.counts.read += 1;
        if self.view.reading == Reading::Files {
            self.meter.bytes_done(content.len);
        }
        Ok(ContentRead { content, metadata, unsettled, extents, attributes })
    }

    /// Reads a disk once: one that is in use changes all the time, and reading it again would not settle it.
    fn read_disk(
        &mut self,
        parent: &Directory,
        name: &[u8],
        kind: EntryKind,
        known: &[Option<Held>],
    ) -> std::result::Result<(DiskRead, Metadata, bool), ReadFailure> {
        let mut disk = parent.open_disk(name)?;
        let before = disk.metadata_now()?;
        let len = disk.seek(SeekFrom::End(0))?;
        let in_use = before.device.map_or(Ok(false), System::is_mounted_for_writing);
        let read = read_extents(self.keys, &mut self.sink, &disk, len, known, &self.meter)?;
        let metadata = disk.metadata_now()?;
        let changed = kind == EntryKind::File && Stamp::of(&before) != Stamp::of(&metadata);
        if changed {
            self.except(Cause::ChangedWhileRead, "it changed while it was read; the point may be a mixture");
        }
        match &in_use {
            Ok(false) => {}
            Ok(true) => {
                let what = "it is mounted for writing and may have changed while it was read; take a snapshot, or unmount it";
                self.except(Cause::ChangedWhileRead, what);
            }
            Err(error) => {
                let what = format!("it may have changed while it was read: what is mounted cannot be listed ({})", reason(error));
                self.except(Cause::ChangedWhileRead, what);
            }
        }
        for stretch in &read.unreadable {
            let (bytes, from) = (stretch.end - stretch.start, stretch.start);
            let what = format!("{bytes} bytes from byte {from} could not be read; zeros stand in their place");
            self.except(Cause::Unreadable, what);
        }
        let unsettled = changed || !matches!(in_use, Ok(false)) || !read.unreadable.is_empty();
        Ok((read, metadata, unsettled))
    }

    /// Attributes that cannot be read or for which an entry has no room are exceptions; the name is kept without them.
    fn add_attributes(&mut self, entry: &mut Entry, attributes: std::io::Result<Attributes>) -> Result<()> {
        let what = match attributes {
            Ok(found) => match attributes::keep(found, entry, self.keys, &mut self.chunker, &mut self.sink)? {
                0 => return Ok(()),
                left_out => format!("{left_out} of its extended attributes are more than is kept of one name"),
            },
            Err(error) => format!("its extended attributes: {}", reason(&error)),
        };
        self.except(Cause::Unreadable, what);
        Ok(())
    }

    /// Goes on without a cache that turned out to be damaged, unless what it knows was taken over.
    fn without_cache(&self) -> Result<()> {
        if self.view.known.is_some() { Err(ClientError::CacheDamaged) } else { Ok(()) }
    }

    /// Asks the cache. One that turns out to be damaged is not asked again: what it says from there on is not known to be so.
    fn remembered<T>(&mut self, ask: impl FnOnce(&mut WalkReader) -> std::io::Result<T>) -> Option<T> {
        let answer = ask(self.cache.as_mut()?);
        if answer.is_err() {
            self.cache = None;
            // What is new and what is gone cannot be told any more.
            self.profile = None;
        }
        answer.ok()
    }

    fn remember<T>(&mut self, write: impl FnOnce(&mut ChangeCacheWriter) -> std::io::Result<T>) -> Result<T> {
        write(&mut self.writer).map_err(ClientError::file("writing", "the change cache of this walk"))
    }
}

/// Whether a file was remembered as one with several names.
fn had_links(known: Option<&Remembered>) -> Result<bool> {
    let Some(known) = known else { return Ok(false) };
    Ok(EntryPage::read(&known.entry)?.iter().any(|entry| entry.links.is_some()))
}

fn seconds_now() -> i64 {
    i64::try_from(now_ns() / 1_000_000_000).unwrap_or(i64::MAX)
}

fn now_ns() -> i128 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i128::try_from(d.as_nanos()).unwrap_or(i128::MAX))
}
