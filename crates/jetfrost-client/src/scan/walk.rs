//! The walk: every chosen name once, in order, into a tree.

use std::collections::HashSet;
use std::io::{Seek, SeekFrom};
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Cause, Content, Entry, EntryKind, EntryPage, Flags};
use jetfrost_image::tree::{ChunkBuffer, ChunkSink, Chunker, ListingWriter};
use jetfrost_platform::{Devices, Directory, FileContent, Metadata, OpenDirectory, System, reason};

use super::attributes::{self, Attributes, attributes_of};
use super::change_cache::{ChangeCacheWriter, Remembered, WalkReader};
use super::dir_reader::{DEEPEST, DirEntry, Inside, Reading, Seen, Sights, View, look_ahead};
use super::extents::{DiskRead, Extents, Held, read_extents};
use super::facts::{Links, Owners, Stamp, entry};
use super::file::{ReadFailure, read_file};
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
    /// Chunks that the service lost: what they belong to is read again, though it did not change.
    lost: HashSet<ChunkName>,
    writer: ChangeCacheWriter,
    meter: Arc<Meter>,
    chunker: Chunker,
    owners: Owners,
    links: Links,
    counts: Counts,
    exceptions: Exceptions,
    path: Vec<u8>,
}

/// What a walk came to.
pub(crate) struct WalkResult {
    pub(crate) root: Content,
    pub(crate) counts: Counts,
    pub(crate) exceptions: Exceptions,
    /// Names of all chunks behind the root, in no order, some more than once.
    pub(crate) needed: Vec<ChunkName>,
    pub(crate) writer: ChangeCacheWriter,
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
}

impl<'w, S> Noting<'w, S> {
    pub(crate) fn new(inner: &'w mut S) -> Self {
        Self { inner, needed: Vec::new() }
    }
}

impl<S: ChunkSink<Error = ClientError>> ChunkSink for Noting<'_, S> {
    type Error = ClientError;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<()> {
        self.needed.push(name);
        self.inner.put(name, content)
    }

    fn put_buffer(&mut self, name: ChunkName, buffer: &mut ChunkBuffer, len: usize) -> Result<()> {
        self.needed.push(name);
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
        Self {
            keys,
            view,
            sink: Noting::new(sink),
            cache,
            lost: HashSet::new(),
            writer,
            meter,
            chunker: Chunker::new(keys.border_seed()),
            owners: Owners::default(),
            links: Links::default(),
            counts: Counts::default(),
            exceptions: Exceptions::default(),
            path: Vec::new(),
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
            self.listing(&root, &mut sights)
        })?;
        Ok(WalkResult { root, counts: self.counts, exceptions: self.exceptions, needed: self.sink.needed, writer: self.writer })
    }

    /// The listing of an open folder.
    fn listing(&mut self, folder: &Directory, sights: &mut Sights) -> Result<Content> {
        let mut listing = ListingWriter::default();
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
        if let Some(cache) = &mut self.cache
            && cache.leave().is_err()
        {
            self.cache = None;
        }
        self.remember(ChangeCacheWriter::leave)?;
        listing.finish(self.keys, &mut self.sink)
    }

    /// Takes what was seen into the listing of the folder it is in.
    fn entry_seen(
        &mut self,
        parent: &Directory,
        entry_seen: DirEntry,
        sights: &mut Sights,
        listing: &mut ListingWriter,
    ) -> Result<()> {
        match entry_seen {
            DirEntry::Leaf(seen, kind) => self.at(&seen.name, |walk| {
                let Some(entry) = walk.leaf(parent, &seen, kind)? else { return Ok(()) };
                listing.push_encoded(walk.keys, &mut walk.sink, &seen.name, &entry)
            })?,
            DirEntry::Folder(seen, inside) => self.at(&seen.name, |walk| {
                let entry = walk.folder(parent, &seen, inside, sights)?;
                listing.push_encoded(walk.keys, &mut walk.sink, &seen.name, &entry)
            })?,
            DirEntry::Unseen(name, error) => self.at(&name, |walk| walk.exceptions.failed(&walk.path, &error)),
            DirEntry::Unfit(name, why) => self.at(&name, |walk| walk.exceptions.add(Cause::Unreadable, &walk.path, why)),
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
        let mut entry = entry(&seen.name, EntryKind::Directory, &seen.metadata, &mut self.owners);
        let attributes = match &inside {
            Inside::Open(folder) => attributes_of(&folder.itself()),
            _ => attributes_of(&parent.named(&seen.name)),
        };
        self.add_attributes(&mut entry, attributes)?;
        self.counts.folders += 1;
        let (content, whole) = match inside {
            Inside::Open(folder) => (self.inside(&folder, &seen.name, sights)?, true),
            Inside::OtherVolume => {
                self.counts.mounts += 1;
                (Content::empty(), true)
            }
            Inside::TooDeep => {
                let what = format!("it lies within more than {DEEPEST} folders, and what is in it is not backed up");
                self.exceptions.add(Cause::Unreadable, &self.path, what);
                (Content::empty(), false)
            }
            Inside::Closed(error) => {
                self.exceptions.failed(&self.path, &error);
                (Content::empty(), false)
            }
        };
        entry.set_flags(Flags { unsettled: false, partial: !whole });
        entry.content = Some(content);
        Ok(entry.to_bytes())
    }

    fn inside(&mut self, folder: &Directory, name: &[u8], sights: &mut Sights) -> Result<Content> {
        self.remember(|writer| writer.enter(name))?;
        // A folder that is not remembered is walked without the cache, and the cache waits where it is.
        let known = self.remembered(|cache| cache.enter(name)).unwrap_or(false);
        let waiting = if known { None } else { self.cache.take() };
        let result = self.listing(folder, sights);
        if !known {
            self.cache = waiting;
        }
        result
    }

    /// The encoded entry of what is no folder; `None` when it could not be read.
    fn leaf(&mut self, parent: &Directory, seen: &Seen, kind: EntryKind) -> Result<Option<Vec<u8>>> {
        let Seen { name, metadata } = seen;
        let known = self.remembered(|cache| cache.leaf(name)).flatten();
        let is_whole = |known: &Remembered| self.lost.is_empty() || known.names.iter().all(|name| !self.lost.contains(name));
        let is_unchanged = known.as_ref().is_some_and(|known| known.stamp == Stamp::of(metadata) && is_whole(known));
        let present = match known {
            Some(known) if is_unchanged => {
                self.sink.needed.extend(&known.names);
                self.meter.bytes_done(known.bytes);
                self.with_sound_links(known, metadata)?
            }
            known => {
                let mut extents = known.map_or_else(Extents::new, |known| known.extents);
                extents.iter_mut().for_each(|extent| *extent = extent.filter(|held| !self.lost.contains(&held.name)));
                match self.read_leaf(parent, name, kind, metadata, &extents)? {
                    Some(read) => read,
                    None => return Ok(None),
                }
            }
        };
        if self.is_read(kind) {
            self.counts.files += 1;
            self.counts.bytes += present.bytes;
            self.meter.file_done();
        }
        self.remember(|writer| writer.leaf(name, &present))?;
        Ok(Some(present.entry))
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
                        self.exceptions.failed(&self.path, &error);
                        return Ok(None);
                    }
                    Err(ReadFailure::Replaced) => {
                        self.sink.needed.truncate(first_name);
                        let what = "something else than a file took its place before it was read";
                        self.exceptions.add(Cause::Disappeared, &self.path, what);
                        return Ok(None);
                    }
                    Err(ReadFailure::Run(error)) => return Err(error),
                }
            }
            EntryKind::Symlink => match parent.link_target(name) {
                Ok(found) => target = Some(found),
                Err(error) => {
                    self.exceptions.failed(&self.path, &error);
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
        Ok(Some(Remembered { stamp, bytes, entry: entry.to_bytes(), names, extents }))
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
                    self.exceptions.add(Cause::ChangedWhileRead, &self.path, what);
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
            self.exceptions.add(Cause::ChangedWhileRead, &self.path, "it changed while it was read; the point may be a mixture");
        }
        match &in_use {
            Ok(false) => {}
            Ok(true) => {
                let what = "it is mounted for writing and may have changed while it was read; take a snapshot, or unmount it";
                self.exceptions.add(Cause::ChangedWhileRead, &self.path, what);
            }
            Err(error) => {
                let what = format!("it may have changed while it was read: what is mounted cannot be listed ({})", reason(error));
                self.exceptions.add(Cause::ChangedWhileRead, &self.path, what);
            }
        }
        for stretch in &read.unreadable {
            let (bytes, from) = (stretch.end - stretch.start, stretch.start);
            let what = format!("{bytes} bytes from byte {from} could not be read; zeros stand in their place");
            self.exceptions.add(Cause::Unreadable, &self.path, what);
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
        self.exceptions.add(Cause::Unreadable, &self.path, what);
        Ok(())
    }

    /// Asks the cache. One that turns out to be damaged is not asked again: what it says from there on is not known to be so.
    fn remembered<T>(&mut self, ask: impl FnOnce(&mut WalkReader) -> std::io::Result<T>) -> Option<T> {
        let answer = ask(self.cache.as_mut()?);
        if answer.is_err() {
            self.cache = None;
        }
        answer.ok()
    }

    fn remember(&mut self, write: impl FnOnce(&mut ChangeCacheWriter) -> std::io::Result<()>) -> Result<()> {
        write(&mut self.writer).map_err(ClientError::file("writing", "the change cache of this walk"))
    }
}

fn now_ns() -> i128 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i128::try_from(d.as_nanos()).unwrap_or(i128::MAX))
}
