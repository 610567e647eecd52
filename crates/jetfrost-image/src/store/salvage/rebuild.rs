//! What only the key can rebuild: the needs of a point from its tree, and a lost point from its needs.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::super::{Result, Store, StoreError, layout, medium, numbers};
use crate::crypto::{Random, StoreKeys, open_chunk, open_point, random_array, seal_point};
use crate::format::{
    Content, Entry, EntryKind, EntryPage, MAX_CHUNK, MAX_ENTRY, Part, PointBody, PointFile, PointHead, PointKind, encode_needs,
};
use crate::id::{ChunkName, PointId};
use crate::medium::publish_bytes;
use crate::tree::{ChunkSource, expand_parts, read_listing};

/// No page of a listing is longer: it ends when it has reached 256 KiB, and an entry has its own bound.
const MOST_PAGE: usize = (256 << 10) + MAX_ENTRY;

/// What was rebuilt with the key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rebuilt {
    /// Points whose needs were read from their trees.
    pub needs: Vec<u64>,
    /// Points that were lost and made again from what they needed.
    pub points: Vec<u64>,
    /// Points of which it still cannot be shown what they need: folders are missing, and with them what was in them.
    pub unproven: Vec<u64>,
}

/// The chunks of a store, opened.
struct Opened<'s> {
    store: &'s Store,
    keys: &'s StoreKeys,
}

impl ChunkSource for Opened<'_> {
    type Error = StoreError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>> {
        let mut sealed = self.store.chunk(name)?;
        open_chunk(self.keys, name, &mut sealed).map_err(|_| StoreError::NoChunk(*name))
    }
}

/// Whether an error says that something is lost, and not that the medium fails.
fn is_loss(error: &StoreError) -> bool {
    matches!(error, StoreError::NoChunk(_) | StoreError::DamagedChunk { .. } | StoreError::Format(_))
}

/// Passes over what is lost.
fn or_lost(result: Result<()>) -> Result<()> {
    match result {
        Err(error) if is_loss(&error) => Ok(()),
        other => other,
    }
}

impl Store {
    /// Rebuilds what can be rebuilt with the key. Only ever on a copy.
    ///
    /// # Errors
    /// [`StoreError::Medium`]. What is lost is no error.
    pub fn rebuild(&self, keys: &StoreKeys, random: &dyn Random) -> Result<Rebuilt> {
        let mut rebuilt = Rebuilt::default();
        self.rebuild_needs(keys, &mut rebuilt)?;
        for sequence in self.needs_without_point()? {
            if self.rebuild_point(keys, sequence, random)? {
                rebuilt.points.push(sequence);
            }
        }
        rebuilt.unproven = self.unproven()?.into_iter().collect();
        Ok(rebuilt)
    }

    fn rebuild_needs(&self, keys: &StoreKeys, rebuilt: &mut Rebuilt) -> Result<()> {
        let mut hopeless = BTreeSet::new();
        // Once one is rebuilt, those that are a difference to it may be proven, too.
        while let Some(sequence) = self.unproven()?.difference(&hopeless).next().copied() {
            let file = PointFile::from_bytes(&self.point(sequence)?)?;
            let needed = match open_point(keys, &file) {
                Ok(body) => self.names_behind(keys, &body)?,
                Err(_) => BTreeSet::new(),
            };
            if sum_of(&needed) == (file.head.needed, file.head.needed_xor) {
                let names: Vec<ChunkName> = needed.into_iter().collect();
                let bytes = encode_needs(self.id, sequence, 0, &names, &[]);
                publish_bytes(&self.medium, layout::NEEDS, &layout::needs(sequence), &bytes)
                    .map_err(medium("writing what a point needs"))?;
                self.add_used(bytes.len() as u64);
                self.renew_receipt(sequence)?;
                rebuilt.needs.push(sequence);
            } else {
                hopeless.insert(sequence);
            }
        }
        Ok(())
    }

    /// The names of all chunks behind a point, as far as they can be read.
    fn names_behind(&self, keys: &StoreKeys, body: &PointBody) -> Result<BTreeSet<ChunkName>> {
        let (source, mut names) = (Opened { store: self, keys }, BTreeSet::new());
        names_of_content(&source, &body.exceptions, &mut names)?;
        names_of_listing(&source, &body.root, &mut names)?;
        Ok(names)
    }

    /// Numbers of points that are not there though it is known what they needed.
    fn needs_without_point(&self) -> Result<Vec<u64>> {
        let points: BTreeSet<u64> = self.points().into_iter().collect();
        Ok(numbers(&*self.medium, layout::NEEDS, layout::NEEDS_SUFFIX)?.difference(&points).copied().collect())
    }

    /// Makes a lost point again: its root is the listing that no other one refers to.
    fn rebuild_point(&self, keys: &StoreKeys, sequence: u64, random: &dyn Random) -> Result<bool> {
        let Some(needed) = self.set_of(sequence)? else { return Ok(false) };
        let source = Opened { store: self, keys };
        let Some(root) = find_root(&source, &needed)? else { return Ok(false) };
        let mut told = Told::default();
        tell(&source, &root, &mut told)?;
        let before = self.points().into_iter().rfind(|other| *other < sequence);
        let after = self.points().into_iter().find(|other| *other > sequence);
        let previous = before.map(|before| self.point_head(before)).transpose()?.map(|head| head.id);
        let id = after
            .map(|after| self.point_head(after))
            .transpose()?
            .and_then(|head| head.previous)
            .filter(|id| Some(*id) != previous);
        let (count, xor) = sum_of(&needed);
        let head = PointHead {
            store: self.id,
            id: id.unwrap_or_else(|| PointId(random_array(random))),
            sequence,
            kind: if told.is_of_disks() { PointKind::Disk } else { PointKind::Files },
            // When it was made is lost; it was not before the latest change in it.
            created: told.latest.saturating_mul(1000),
            previous,
            needed: count,
            needed_xor: xor,
            bytes: told.bytes,
            files: told.files,
            exceptions: 0,
            needs: None,
            changes: None,
        };
        let body = PointBody { root, writer: "rebuilt by salvage".into(), ..PointBody::default() };
        let bytes = seal_point(keys, head, &body, random).to_bytes();
        publish_bytes(&self.medium, layout::POINTS, &layout::point(sequence), &bytes)
            .map_err(medium("writing a recovery point"))?;
        self.lock_points().insert(sequence);
        self.add_used(bytes.len() as u64);
        self.renew_receipt(sequence)?;
        Ok(true)
    }

    /// The set that needs files describe; `None` when one that it builds on is lost.
    fn set_of(&self, sequence: u64) -> Result<Option<BTreeSet<ChunkName>>> {
        let mut path = Vec::new();
        let mut next = sequence;
        while next != 0 {
            let (mut added, mut removed) = (Vec::new(), Vec::new());
            let scanned = self.scan_needs(next, |name, is_added| {
                if is_added { &mut added } else { &mut removed }.push(name);
                Ok(())
            });
            match scanned {
                Ok(summary) => next = summary.head.base,
                Err(StoreError::Needs(_) | StoreError::Format(_)) => return Ok(None),
                Err(other) => return Err(other),
            }
            path.push((added, removed));
        }
        let mut set = BTreeSet::new();
        for (added, removed) in path.into_iter().rev() {
            set.extend(added);
            set.retain(|name| removed.binary_search(name).is_err());
        }
        Ok(Some(set))
    }
}

fn sum_of(names: &BTreeSet<ChunkName>) -> (u64, [u8; 32]) {
    let mut xor = [0; 32];
    for name in names {
        xor.iter_mut().zip(name.as_bytes()).for_each(|(x, b)| *x ^= b);
    }
    (names.len() as u64, xor)
}

/// The names of content and of the pages that lead to it.
fn names_of_content(source: &Opened<'_>, content: &Content, names: &mut BTreeSet<ChunkName>) -> Result<()> {
    names_of_parts(source, &content.parts, content.depth, names)
}

fn names_of_parts(source: &Opened<'_>, parts: &[Part], depth: u8, names: &mut BTreeSet<ChunkName>) -> Result<()> {
    for part in parts {
        let Some(name) = part.name else { continue };
        names.insert(name);
        if depth > 0 {
            let below = source.get(&name).and_then(|page| {
                let parts = Content::parts_of_page(&page, depth, part.len)?;
                names_of_parts(source, &parts, depth - 1, names)
            });
            or_lost(below)?;
        }
    }
    Ok(())
}

fn names_of_listing(source: &Opened<'_>, listing: &Content, names: &mut BTreeSet<ChunkName>) -> Result<()> {
    names_of_content(source, listing, names)?;
    let read = read_listing(source, listing, &mut |entry| {
        entry.attribute_contents().try_for_each(|value| names_of_content(source, value, names))?;
        match (entry.kind, &entry.content) {
            (EntryKind::Directory, Some(listing)) => names_of_listing(source, listing, names),
            (_, Some(content)) => names_of_content(source, content, names),
            (_, None) => Ok(()),
        }
    });
    or_lost(read)
}

/// The listing among these chunks that none of the others refers to; `None` when there is none, or more than one.
fn find_root(source: &Opened<'_>, needed: &BTreeSet<ChunkName>) -> Result<Option<Content>> {
    let mut pages: BTreeMap<ChunkName, Page> = BTreeMap::new();
    let mut referred: HashSet<ChunkName> = HashSet::new();
    for name in needed {
        let bytes = match source.get(name) {
            Err(error) if is_loss(&error) => continue,
            other => other?,
        };
        let Some(entries) = as_listing(&bytes) else { continue };
        for entry in &entries {
            refer(source, entry, &mut referred)?;
        }
        if let (Some(first), Some(last)) = (entries.first(), entries.last()) {
            let (first, last) = (first.name.clone(), last.name.clone());
            pages.insert(*name, Page { part: Part { len: bytes.len() as u64, name: Some(*name) }, first, last });
        }
    }
    pages.retain(|name, _| !referred.contains(name));
    let mut roots: Vec<Page> = pages.into_values().collect();
    roots.sort_by(|a, b| a.first.cmp(&b.first));
    // A listing of several pages goes on where the page before ended; anything else is several listings.
    if roots.is_empty() || roots.windows(2).any(|pair| pair[0].last >= pair[1].first) {
        return Ok(None);
    }
    let parts: Vec<Part> = roots.into_iter().map(|page| page.part).collect();
    Ok(Some(Content { len: parts.iter().map(|part| part.len).sum(), depth: 0, parts }))
}

/// A page of a listing: the part that it would be, and its first and last names.
struct Page {
    part: Part,
    first: Vec<u8>,
    last: Vec<u8>,
}

fn as_listing(bytes: &[u8]) -> Option<Vec<Entry>> {
    let entries = EntryPage::read(bytes).ok().filter(|entries| bytes.len() <= MOST_PAGE && !entries.is_empty())?;
    entries.windows(2).all(|pair| pair[0].name < pair[1].name).then_some(entries)
}

/// Notes what an entry refers to.
fn refer(source: &Opened<'_>, entry: &Entry, referred: &mut HashSet<ChunkName>) -> Result<()> {
    referred.extend(entry.attribute_contents().flat_map(|value| &value.parts).filter_map(|part| part.name));
    let Some(content) = &entry.content else { return Ok(()) };
    if entry.kind != EntryKind::Directory {
        referred.extend(content.parts.iter().filter_map(|part| part.name));
        return Ok(());
    }
    or_lost(expand_parts(source, content, &mut |part| {
        referred.extend(part.name);
        Ok(())
    }))
}

/// What a tree tells of its point.
#[derive(Default)]
struct Told {
    files: u64,
    bytes: u64,
    /// The latest modification time, in seconds.
    latest: i64,
    /// Chunks that are as long as extents of disks, and those that are not the last of a file and shorter.
    extents: u64,
    others: u64,
}

impl Told {
    fn is_of_disks(&self) -> bool {
        self.extents > 0 && self.others == 0
    }
}

fn tell(source: &Opened<'_>, listing: &Content, told: &mut Told) -> Result<()> {
    let read = read_listing(source, listing, &mut |entry| {
        told.latest = told.latest.max(entry.mtime);
        match (entry.kind, &entry.content) {
            (EntryKind::Directory, Some(listing)) => tell(source, listing, told)?,
            (_, Some(content)) => {
                told.files += 1;
                told.bytes += content.len;
                tell_extents(source, content, told)?;
            }
            (_, None) => {}
        }
        Ok(())
    });
    or_lost(read)
}

fn tell_extents(source: &Opened<'_>, content: &Content, told: &mut Told) -> Result<()> {
    let mut at = 0;
    or_lost(expand_parts(source, content, &mut |part| {
        at += part.len;
        match part.name {
            None => {}
            Some(_) if part.len == MAX_CHUNK as u64 => told.extents += 1,
            // The last chunk of a file and the last extent of a disk may be shorter.
            Some(_) if at == content.len && at > part.len => {}
            Some(_) => told.others += 1,
        }
        Ok::<_, StoreError>(())
    }))
}
