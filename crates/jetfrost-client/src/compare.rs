//! What differs between two points. Folders that are the same in both are not gone into.

use std::cmp::Ordering;
use std::collections::{HashMap, VecDeque};
use std::iter::Peekable;
use std::sync::Arc;
use std::vec::IntoIter;

use jetfrost_image::format::{Content, Entry, EntryKind, Flags};

use crate::browse::{Browser, OpenPoint, entries_of, find};
use crate::error::ClientError;
use crate::export::read_small;
use crate::progress::Meter;
use crate::walk_tree::{Met, go_through};

type Result<T> = std::result::Result<T, ClientError>;

/// How something differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It is in the second point alone.
    Added,
    /// It is in the first point alone.
    Removed,
    /// Its content is another.
    Changed,
    /// Its content is the same, and permissions, owner, times or attributes are not.
    Attributes,
    /// It had this path in the first point, and the same content.
    Renamed(Vec<u8>),
}

/// Something that differs. A folder that is in one point alone is told as a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Its path, in the second point if it is there.
    pub path: Vec<u8>,
    /// How it differs.
    pub change: Change,
    /// What it is.
    pub kind: EntryKind,
    /// Its bytes in the first point.
    pub before: u64,
    /// Its bytes in the second.
    pub after: u64,
    /// Files: one, or those in the folder.
    pub files: u64,
}

/// What was found.
#[derive(Debug, Clone, Default)]
pub struct Comparison {
    /// All differences, by path.
    pub differences: Vec<Difference>,
    /// Folders whose listing is damaged in one of the points: what is in them cannot be told.
    pub unreadable: Vec<Vec<u8>>,
}

/// Compares what is at a path in two points, and below it.
///
/// # Errors
/// [`ClientError::NoPath`] when it is in neither; what the service said; [`ClientError::Stopped`].
pub fn compare(browser: &Browser, before: &OpenPoint, after: &OpenPoint, path: &[u8], meter: &Arc<Meter>) -> Result<Comparison> {
    let mut comparing =
        Comparing { browser, meter, folders: Vec::new(), removed: Vec::new(), added: Vec::new(), found: Comparison::default() };
    let path = path.strip_suffix(b"/").unwrap_or(path);
    match (at(browser, before, path), at(browser, after, path)) {
        (Err(error @ ClientError::NoPath(_)), Err(ClientError::NoPath(_))) => return Err(error),
        (one, other) => comparing.pair(path, found(one)?, found(other)?),
    }
    while let Some((path, before, after)) = comparing.folders.pop() {
        if meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        comparing.folder(&path, &before, &after)?;
    }
    comparing.in_one_alone()?;
    let mut found = comparing.found;
    found.differences.sort_by(|one, other| one.path.cmp(&other.path));
    Ok(found)
}

/// What is at a path; the root is a folder like any other.
fn at(browser: &Browser, point: &OpenPoint, path: &[u8]) -> Result<Entry> {
    Ok(find(&browser.source(), point, path)?.unwrap_or_else(|| {
        let mut root = Entry::new(Vec::new(), EntryKind::Directory);
        root.content = Some(point.body.root.clone());
        root
    }))
}

fn found(looked: Result<Entry>) -> Result<Option<Entry>> {
    match looked {
        Err(ClientError::NoPath(_)) => Ok(None),
        other => other.map(Some),
    }
}

struct Comparing<'c> {
    browser: &'c Browser,
    meter: &'c Meter,
    /// Folders that differ, with their listings.
    folders: Vec<(Vec<u8>, Content, Content)>,
    removed: Vec<(Vec<u8>, Entry)>,
    added: Vec<(Vec<u8>, Entry)>,
    found: Comparison,
}

impl Comparing<'_> {
    fn folder(&mut self, path: &[u8], before: &Content, after: &Content) -> Result<()> {
        let (Some(before), Some(after)) = (self.listed(path, before)?, self.listed(path, after)?) else { return Ok(()) };
        let (mut before, mut after) = (before.into_iter().peekable(), after.into_iter().peekable());
        while let Some((before, after)) = next_pair(&mut before, &mut after) {
            let name = before.as_ref().or(after.as_ref()).map(|entry| entry.name.clone()).unwrap_or_default();
            self.pair(&[path, b"/", &name].concat(), before, after);
        }
        Ok(())
    }

    /// What is in a folder; none when that cannot be told.
    fn listed(&mut self, path: &[u8], listing: &Content) -> Result<Option<Vec<Entry>>> {
        let (entries, read) = entries_of(&self.browser.source(), listing);
        match read {
            Err(error) if error.is_loss() => {
                self.found.unreadable.push(path.to_vec());
                Ok(None)
            }
            other => other.map(|()| Some(entries)),
        }
    }

    fn pair(&mut self, path: &[u8], before: Option<Entry>, after: Option<Entry>) {
        match (before, after) {
            (Some(before), Some(after)) if before.kind == after.kind => self.both(path, before, after),
            (before, after) => {
                self.removed.extend(before.map(|entry| (path.to_vec(), entry)));
                self.added.extend(after.map(|entry| (path.to_vec(), entry)));
            }
        }
    }

    fn both(&mut self, path: &[u8], before: Entry, after: Entry) {
        let is_folder = after.kind == EntryKind::Directory;
        let same = before.content == after.content && before.target == after.target && before.device == after.device;
        if !same && !is_folder {
            return self.note(path, Change::Changed, &before, &after);
        }
        // A folder's time changes with what is in it, which is told.
        let is_other = if is_folder && !same { rights(&before) != rights(&after) } else { plain(&before) != plain(&after) };
        if is_other {
            self.note(path, Change::Attributes, &before, &after);
        }
        if !same {
            let listing = |entry: Entry| entry.content.unwrap_or_else(Content::empty);
            self.folders.push((path.to_vec(), listing(before), listing(after)));
        }
    }

    fn note(&mut self, path: &[u8], change: Change, before: &Entry, after: &Entry) {
        let (kind, is_file) = (after.kind, after.kind == EntryKind::File);
        let bytes = |entry: &Entry| if is_file { entry.len() } else { 0 };
        let (before, after) = (bytes(before), bytes(after));
        let difference = Difference { path: path.to_vec(), change, kind, before, after, files: u64::from(is_file) };
        self.found.differences.push(difference);
    }

    /// What is in one of the points alone: under another name in the other, or not at all.
    fn in_one_alone(&mut self) -> Result<()> {
        let mut removed: HashMap<Vec<u8>, VecDeque<usize>> = HashMap::new();
        for (at, (_, entry)) in self.removed.iter().enumerate() {
            removed.entry(identity(entry)).or_default().push_back(at);
        }
        let mut is_renamed = vec![false; self.removed.len()];
        for (path, entry) in std::mem::take(&mut self.added) {
            let has_content = entry.content.as_ref().is_some_and(|content| content.len > 0);
            let from = removed.get_mut(&identity(&entry)).filter(|_| has_content).and_then(VecDeque::pop_front);
            let change = from.map_or(Change::Added, |from| Change::Renamed(self.removed[from].0.clone()));
            from.iter().for_each(|from| is_renamed[*from] = true);
            self.alone(path, &entry, change)?;
        }
        for ((path, entry), _) in std::mem::take(&mut self.removed).into_iter().zip(is_renamed).filter(|(_, renamed)| !renamed) {
            self.alone(path, &entry, Change::Removed)?;
        }
        Ok(())
    }

    fn alone(&mut self, path: Vec<u8>, entry: &Entry, change: Change) -> Result<()> {
        let (files, bytes) = self.size(&path, entry)?;
        let before = if change == Change::Added { 0 } else { bytes };
        let after = if change == Change::Removed { 0 } else { bytes };
        self.found.differences.push(Difference { path, change, kind: entry.kind, before, after, files });
        Ok(())
    }

    /// Files and bytes, of a folder with all below it.
    fn size(&mut self, path: &[u8], entry: &Entry) -> Result<(u64, u64)> {
        let Some(listing) = entry.content.as_ref().filter(|_| entry.kind == EntryKind::Directory) else {
            let is_file = entry.kind == EntryKind::File;
            return Ok((u64::from(is_file), if is_file { entry.len() } else { 0 }));
        };
        let (mut files, mut bytes) = (0, 0);
        let unreadable = &mut self.found.unreadable;
        go_through(self.browser, listing, self.meter, |met| {
            match met {
                Met::Entry(_, entry) if entry.kind == EntryKind::File => {
                    files += 1;
                    bytes += entry.len();
                }
                Met::Entry(..) => {}
                Met::DamagedFolder(below) => unreadable.push([path, below].concat()),
            }
            Ok(())
        })?;
        Ok((files, bytes))
    }
}

/// An entry without what is another whenever it is backed up: which file has its other names, and whether it kept changing.
fn plain(entry: &Entry) -> Entry {
    let mut plain = entry.clone();
    plain.links = None;
    plain.set_flags(Flags { unsettled: false, partial: false });
    plain
}

fn rights(entry: &Entry) -> impl PartialEq + use<> {
    (entry.mode, entry.uid, entry.gid, entry.xattrs.clone())
}

/// What makes two entries the same under two names: what is in them. Listings hold names and attributes of what they list.
fn identity(entry: &Entry) -> Vec<u8> {
    let mut nameless = Entry::new(Vec::new(), entry.kind);
    nameless.content.clone_from(&entry.content);
    nameless.to_bytes()
}

/// The next of two lists in the order of their names: the same name of both, or one of one alone.
fn next_pair(
    before: &mut Peekable<IntoIter<Entry>>,
    after: &mut Peekable<IntoIter<Entry>>,
) -> Option<(Option<Entry>, Option<Entry>)> {
    let order = match (before.peek(), after.peek()) {
        (None, None) => return None,
        (Some(_), None) => Ordering::Less,
        (None, Some(_)) => Ordering::Greater,
        (Some(before), Some(after)) => before.name.cmp(&after.name),
    };
    Some((if order.is_le() { before.next() } else { None }, if order.is_ge() { after.next() } else { None }))
}

/// Text longer than this is not shown line by line.
const MOST_TEXT: u64 = 1 << 20;

/// A file's content as text; none when it is no file, not there, longer than a mebibyte, or no text.
///
/// # Errors
/// What the service said; [`ClientError::Damaged`].
pub fn text_of(browser: &Browser, point: &OpenPoint, path: &[u8]) -> Result<Option<String>> {
    let Some(entry) = found(at(browser, point, path))? else { return Ok(None) };
    let Some(content) = entry.content.filter(|content| entry.kind == EntryKind::File && content.len <= MOST_TEXT) else {
        return Ok(None);
    };
    let text = String::from_utf8(read_small(browser, &content)?).ok();
    Ok(text.filter(|text| !text.contains('\0')))
}
