//! All points of files as one tree of folders and files: a folder for each point, and in it what the point has.

use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_wire::point::Point;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use lru::LruCache;

use super::lock;
use crate::browse::{Browser, entries_of};
use crate::content_reader::{ContentReader, KeptChunks};
use crate::error::ClientError;

type Result<T> = std::result::Result<T, ClientError>;

/// New points are seen after this.
const LIST_AGAIN: Duration = Duration::from_secs(10);
/// Points whose roots are kept, folders whose listings are, and entries of those.
const POINTS: NonZeroUsize = NonZeroUsize::new(256).expect("not zero");
const FOLDERS: NonZeroUsize = NonZeroUsize::new(4096).expect("not zero");
const ENTRIES: usize = 300_000;
/// Links that lead to links.
const LINKS: usize = 16;

/// Something in the tree.
#[derive(Debug, Clone)]
pub(super) struct Item {
    pub(super) name: Vec<u8>,
    /// When its content changed last, in seconds since 1970.
    pub(super) modified: i64,
    pub(super) what: What,
}

#[derive(Debug, Clone)]
pub(super) enum What {
    Folder(Folder),
    File {
        /// The number of the point.
        point: u64,
        content: Content,
    },
}

#[derive(Debug, Clone)]
pub(super) enum Folder {
    /// The one that has all points.
    Points,
    /// That of a point with this number.
    Point(u64),
    /// A folder of a point.
    In {
        /// The number of the point.
        point: u64,
        /// Its path in the point.
        path: Vec<u8>,
        listing: Content,
    },
}

impl Item {
    /// Bytes of a file.
    pub(super) fn len(&self) -> u64 {
        match &self.what {
            What::Folder(_) => 0,
            What::File { content, .. } => content.len,
        }
    }
}

/// Points with the names of their folders, earliest first.
type Points = Arc<Vec<(Vec<u8>, Point)>>;

/// All points of files.
pub(super) struct Past {
    browser: Browser,
    points: Mutex<Option<(Instant, Points)>>,
    /// What the points that were looked into have at their root.
    roots: Mutex<LruCache<u64, Content>>,
    listings: Mutex<Listings>,
    chunks: KeptChunks,
}

/// Listings that were read lately.
struct Listings {
    kept: LruCache<Content, Arc<Vec<Entry>>>,
    entries: usize,
}

impl Listings {
    fn keep(&mut self, listing: Content, entries: &Arc<Vec<Entry>>) {
        self.entries += entries.len();
        if let Some((_, before)) = self.kept.push(listing, Arc::clone(entries)) {
            self.entries -= before.len();
        }
        while self.entries > ENTRIES && self.kept.len() > 1 {
            let Some((_, oldest)) = self.kept.pop_lru() else { return };
            self.entries -= oldest.len();
        }
    }
}

impl Past {
    pub(super) fn new(browser: Browser) -> Self {
        Self {
            browser,
            points: Mutex::default(),
            roots: Mutex::new(LruCache::new(POINTS)),
            listings: Mutex::new(Listings { kept: LruCache::new(FOLDERS), entries: 0 }),
            chunks: KeptChunks::default(),
        }
    }

    /// What is at a path, if anything.
    pub(super) fn at(&self, path: &[u8]) -> Result<Option<Item>> {
        let mut parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty());
        let points = self.points()?;
        let Some(first) = parts.next() else {
            let modified = points.last().map_or(0, |(_, latest)| latest.committed.as_second());
            return Ok(Some(Item { name: Vec::new(), modified, what: What::Folder(Folder::Points) }));
        };
        let Some((name, point)) = points.iter().find(|(name, _)| name == first) else { return Ok(None) };
        let mut at = folder_of(name, point);
        for part in parts {
            let What::Folder(folder) = &at.what else { return Ok(None) };
            match self.named(folder, part)? {
                Some(next) => at = next,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
    }

    /// What is in a folder. Of links those to files, as what they lead to; nothing that has no content.
    pub(super) fn list(&self, folder: &Folder) -> Result<Vec<Item>> {
        match folder {
            Folder::Points => Ok(self.points()?.iter().map(|(name, point)| folder_of(name, point)).collect()),
            Folder::Point(point) => self.items(*point, b"", &self.root(*point)?),
            Folder::In { point, path, listing } => self.items(*point, path, listing),
        }
    }

    /// The content of a file, for reading.
    pub(super) fn open(&self, content: Content) -> ContentReader {
        ContentReader::sharing(self.chunks.clone(), self.browser.clone(), content)
    }

    /// How many points there are.
    pub(super) fn number(&self) -> Result<usize> {
        Ok(self.points()?.len())
    }

    /// The listing at the root of a point.
    fn root(&self, point: u64) -> Result<Content> {
        let known = lock(&self.roots).get(&point).cloned();
        if let Some(root) = known {
            return Ok(root);
        }
        let root = self.browser.open_point(point)?.body.root;
        lock(&self.roots).put(point, root.clone());
        Ok(root)
    }

    fn items(&self, point: u64, path: &[u8], listing: &Content) -> Result<Vec<Item>> {
        self.entries(listing)?.iter().filter_map(|entry| self.item(point, path, entry).transpose()).collect()
    }

    fn named(&self, folder: &Folder, name: &[u8]) -> Result<Option<Item>> {
        let (point, path, listing) = match folder {
            Folder::Points => return Ok(None),
            Folder::Point(point) => (*point, &b""[..], self.root(*point)?),
            Folder::In { point, path, listing } => (*point, &path[..], listing.clone()),
        };
        match entry_in(&self.entries(&listing)?, name) {
            Some(entry) => self.item(point, path, entry),
            None => Ok(None),
        }
    }

    fn item(&self, point: u64, folder: &[u8], entry: &Entry) -> Result<Option<Item>> {
        let path = [folder, b"/", &entry.name].concat();
        let found = match entry.kind {
            EntryKind::Symlink => self.behind(point, path.clone(), entry)?,
            _ => Some(entry.clone()),
        };
        Ok(found.and_then(|found| {
            let content = found.content.unwrap_or_else(Content::empty);
            let what = match found.kind {
                EntryKind::File => What::File { point, content },
                EntryKind::Directory => What::Folder(Folder::In { point, path, listing: content }),
                _ => return None,
            };
            Some(Item { name: entry.name.clone(), modified: found.mtime, what })
        }))
    }

    /// The file that a link leads to. One to a folder may lead round in a circle.
    fn behind(&self, point: u64, mut path: Vec<u8>, link: &Entry) -> Result<Option<Entry>> {
        let mut at = link.clone();
        for _ in 0..LINKS {
            path = led_to(&path, at.target.as_ref().map(|target| &target[..]).unwrap_or_default());
            match self.entry_at(point, &path)? {
                Some(next) if next.kind == EntryKind::Symlink => at = next,
                found => return Ok(found.filter(|found| found.kind == EntryKind::File)),
            }
        }
        Ok(None)
    }

    /// What a point has at a path, whatever it is.
    fn entry_at(&self, point: u64, path: &[u8]) -> Result<Option<Entry>> {
        let mut listing = self.root(point)?;
        let mut parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).peekable();
        while let Some(part) = parts.next() {
            let entries = self.entries(&listing)?;
            match entry_in(&entries, part) {
                Some(last) if parts.peek().is_none() => return Ok(Some(last.clone())),
                Some(Entry { kind: EntryKind::Directory, content: Some(inner), .. }) => listing = inner.clone(),
                _ => return Ok(None),
            }
        }
        Ok(None)
    }

    fn entries(&self, listing: &Content) -> Result<Arc<Vec<Entry>>> {
        if let Some(entries) = lock(&self.listings).kept.get(listing) {
            return Ok(Arc::clone(entries));
        }
        let (entries, read) = entries_of(&self.browser.source(), listing);
        read?;
        let entries = Arc::new(entries);
        lock(&self.listings).keep(listing.clone(), &entries);
        Ok(entries)
    }

    /// The points, as they were listed lately.
    fn points(&self) -> Result<Points> {
        let mut known = lock(&self.points);
        if let Some((since, points)) = &*known
            && since.elapsed() < LIST_AGAIN
        {
            return Ok(Arc::clone(points));
        }
        let there = self.browser.points()?.into_iter().rev().filter(|point| point.kind == PointKind::Files && !point.lost);
        let points = Arc::new(there.map(|point| (name_of(&point).into_bytes(), point)).collect());
        *known = Some((Instant::now(), Arc::clone(&points)));
        Ok(points)
    }
}

/// The folder of a point. Only looking into it needs the point.
fn folder_of(name: &[u8], point: &Point) -> Item {
    Item { name: name.to_vec(), modified: point.committed.as_second(), what: What::Folder(Folder::Point(point.sequence)) }
}

/// What has a name, in a listing in order.
fn entry_in<'e>(entries: &'e [Entry], name: &[u8]) -> Option<&'e Entry> {
    entries.binary_search_by(|entry| entry.name[..].cmp(name)).ok().map(|at| &entries[at])
}

/// Points by name are points by time. No name has a colon on every system.
fn name_of(point: &Point) -> String {
    named_by(point.committed, point.sequence, TimeZone::system())
}

fn named_by(time: Timestamp, sequence: u64, zone: TimeZone) -> String {
    format!("{}, point {sequence}", time.to_zoned(zone).strftime("%Y-%m-%d %H.%M"))
}

/// Where a link leads.
fn led_to(link: &[u8], target: &[u8]) -> Vec<u8> {
    let folder = link.iter().rposition(|byte| *byte == b'/').map_or(&b""[..], |at| &link[..at]);
    let begin = if target.starts_with(b"/") { &b""[..] } else { folder };
    let mut parts: Vec<&[u8]> = Vec::new();
    for part in begin.split(|byte| *byte == b'/').chain(target.split(|byte| *byte == b'/')) {
        match part {
            b"" | b"." => {}
            b".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    parts.iter().flat_map(|part| [b"/", *part].concat()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_leads_where_it_says_and_never_above_the_root() {
        let led = |link: &str, target: &str| String::from_utf8(led_to(link.as_bytes(), target.as_bytes())).expect("text");
        assert_eq!(led("/home/aud/link", "letters/one"), "/home/aud/letters/one");
        assert_eq!(led("/home/aud/link", "../tove/./one"), "/home/tove/one");
        assert_eq!(led("/home/link", "/srv//one"), "/srv/one");
        assert_eq!(led("/link", "../../../etc/passwd"), "/etc/passwd");
    }

    #[test]
    fn points_by_name_are_points_by_time() {
        let name = |time: &str, sequence| named_by(time.parse().expect("a time"), sequence, TimeZone::UTC);
        assert_eq!(name("2026-11-20T14:03:59Z", 7), "2026-11-20 14.03, point 7");
        assert!(name("2026-11-20T14:03:59Z", 7) < name("2026-11-20T14:04:00Z", 8));
    }
}
