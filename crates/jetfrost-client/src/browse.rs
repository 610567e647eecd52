//! Looking into recovery points.

use std::cell::RefCell;
use std::collections::HashMap;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{StoreKeys, open_chunk, open_point};
use jetfrost_image::format::{Content, PointBody, PointHead, exceptions_from_page};
use jetfrost_image::tree::{ChunkSource, ReadError, expand_parts, find_entry, read_listing};
use jetfrost_office::suspicion::suspicion;
use jetfrost_wire::point::Point;
use jetfrost_wire::workstation::PointKind;

use crate::error::ClientError;
use crate::selection::{Patterns, Selection};
use crate::state_dir::StateDir;
use crate::store_source::StoreSource;

pub use crate::which_point::{At, Doubt};
pub use jetfrost_image::format::{Cause, Entry, EntryKind, Exception};

type Result<T> = std::result::Result<T, ClientError>;

/// The recovery points of one image store.
#[derive(Clone)]
pub struct Browser {
    pub(crate) source: StoreSource,
    pub(crate) keys: StoreKeys,
}

/// A recovery point, opened.
#[derive(Debug, Clone)]
pub struct OpenPoint {
    /// The clear part.
    pub head: PointHead,
    /// What only the store key opens.
    pub body: PointBody,
    /// What speaks against it, where it was looked at among all others.
    pub doubt: Option<Doubt>,
}

impl Browser {
    /// Looks as the workstation of this state directory.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`].
    pub fn open(state_dir: &StateDir) -> Result<Self> {
        let (membership, api) = state_dir.device_api()?;
        let keys = state_dir.keys(&membership)?;
        Ok(Self { source: StoreSource::Service { api, of: Box::new(membership.into()) }, keys })
    }

    /// The points, latest first.
    ///
    /// # Errors
    /// What the service said.
    pub fn points(&self) -> Result<Vec<Point>> {
        self.source.points()
    }

    /// The selection that the latest points were made with; none when there is no point that tells.
    ///
    /// # Errors
    /// What the service said; [`ClientError::Damaged`].
    pub fn selection_of_before(&self) -> Result<Option<Selection>> {
        let points = self.points()?;
        let latest =
            |kind| points.iter().filter(move |point| point.kind == kind && !point.lost).max_by_key(|point| point.sequence);
        let mut latest: Vec<&Point> = [PointKind::Files, PointKind::Disk].into_iter().filter_map(latest).collect();
        latest.sort_by_key(|point| std::cmp::Reverse(point.sequence));
        let opened = latest.into_iter().map(|point| Ok((point.kind, self.open_point(point.sequence)?.body)));
        let opened = opened.collect::<Result<Vec<_>>>()?;
        Ok(Selection::of_points(opened.iter().map(|(kind, body)| (*kind, body))))
    }

    /// Opens the point of this kind that is meant.
    ///
    /// # Errors
    /// [`ClientError::NoPoint`]; [`ClientError::OtherKind`] when the number is that of a point of another kind;
    /// [`ClientError::Damaged`]; [`ClientError::Format`] for one of a later version.
    pub fn point(&self, at: &At, kind: PointKind) -> Result<OpenPoint> {
        let points = self.points()?;
        let refusal = || match at {
            At::Sequence(sequence) => match points.iter().find(|p| p.sequence == *sequence) {
                Some(other) => ClientError::OtherKind { sequence: *sequence, found: other.kind },
                None => ClientError::NoPoint(sequence.to_string()),
            },
            At::Latest => ClientError::NoPoint(format!("of {} yet", kind.plural())),
            At::LastGood => ClientError::NoPoint(format!("of {} before everything that is suspect", kind.plural())),
            At::Time(time) => ClientError::NoPoint(format!("of {} from {time} or before", kind.plural())),
        };
        self.open_listed(at.find(&points, Some(kind)).ok_or_else(refusal)?.sequence, points)
    }

    /// Opens the point that is meant, whatever it is a state of.
    ///
    /// # Errors
    /// As [`Browser::point`].
    pub fn any_point(&self, at: &At) -> Result<OpenPoint> {
        let points = self.points()?;
        let refusal = || match at {
            At::Sequence(sequence) => ClientError::NoPoint(sequence.to_string()),
            At::Latest => ClientError::NoPoint("yet".into()),
            At::LastGood => ClientError::NoPoint("before everything that is suspect".into()),
            At::Time(time) => ClientError::NoPoint(format!("from {time} or before")),
        };
        self.open_listed(at.find(&points, None).ok_or_else(refusal)?.sequence, points)
    }

    fn open_listed(&self, sequence: u64, mut points: Vec<Point>) -> Result<OpenPoint> {
        let opened = self.open_point(sequence)?;
        for point in points.iter_mut().filter(|point| point.sequence == sequence) {
            // The counts are sealed with the point: a list that leaves out what they look like is not believed.
            let by_counts = suspicion(opened.head.kind, opened.head.changes.as_ref(), None, || None);
            point.suspicion = point.suspicion.or(by_counts);
        }
        let doubt = points.iter().find(|point| point.sequence == sequence).and_then(|point| Doubt::about(point, &points));
        Ok(OpenPoint { doubt, ..opened })
    }

    pub(crate) fn open_point(&self, sequence: u64) -> Result<OpenPoint> {
        let file = self.source.point(sequence)?;
        let body = open_point(&self.keys, &file)?;
        Ok(OpenPoint { head: file.head, body, doubt: None })
    }

    /// The chunks of the store, opened and checked.
    pub(crate) fn source(&self) -> BrowserSource<'_> {
        BrowserSource { browser: self, ahead: RefCell::default() }
    }

    /// What is at `path` in a point: the entries of a folder, or the one entry of anything else.
    ///
    /// # Errors
    /// [`ClientError::NoPath`]; [`ClientError::Damaged`].
    pub fn list(&self, point: &OpenPoint, path: &[u8]) -> Result<Vec<Entry>> {
        let source = self.source();
        let listing = match find(&source, point, path)? {
            None => point.body.root.clone(),
            Some(Entry { kind: EntryKind::Directory, content: Some(listing), .. }) => listing,
            Some(entry) => return Ok(vec![entry]),
        };
        let (entries, read) = entries_of(&source, &listing);
        read.map(|()| entries)
    }

    /// Why a path is not in a point, as far as the point says: it was not included then, or a pattern left it out.
    ///
    /// # Errors
    /// [`ClientError::Damaged`]; what the service said.
    pub fn why_missing(&self, point: &OpenPoint, path: &[u8]) -> Result<Option<Missing>> {
        if !point.body.folders.iter().any(|folder| lies_in(path, folder)) {
            return Ok(Some(Missing::NotIncluded));
        }
        let Some((pattern, at)) = pattern_against(&point.body.excluded, path)? else { return Ok(None) };
        let mut since = point.head.clone();
        let earlier =
            self.points()?.into_iter().filter(|p| p.sequence < point.head.sequence && p.kind == point.head.kind && !p.lost);
        for earlier in earlier {
            let earlier = self.open_point(earlier.sequence)?;
            if !earlier.body.excluded.contains(&pattern) {
                break;
            }
            since = earlier.head;
        }
        Ok(Some(Missing::Excluded { pattern, at, since: Box::new(since) }))
    }

    /// What a point does not hold as it should.
    ///
    /// # Errors
    /// [`ClientError::Damaged`].
    pub fn exceptions(&self, point: &OpenPoint) -> Result<Vec<Exception>> {
        let source = self.source();
        let mut bytes = Vec::new();
        expand_parts(&source, &point.body.exceptions, &mut |part| {
            bytes.extend(part.name.map(|name| source.get(&name)).transpose()?.unwrap_or_default());
            Ok(())
        })?;
        Ok(exceptions_from_page(&bytes)?)
    }
}

/// Why something is not in a point.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Missing {
    /// None of the folders that were included holds it.
    NotIncluded,
    /// A pattern left it out.
    Excluded {
        /// The pattern.
        pattern: String,
        /// What it matches: the path, or a folder that it is in.
        at: Vec<u8>,
        /// The first of the points in a row that were made with that pattern.
        since: Box<PointHead>,
    },
}

pub(crate) fn lies_in(path: &[u8], folder: &[u8]) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/") || folder.ends_with(b"/"))
}

/// The first pattern that matches a path or a folder that it is in, from the root down.
fn pattern_against(patterns: &[String], path: &[u8]) -> Result<Option<(String, Vec<u8>)>> {
    let compiled = Patterns::compile(patterns)?;
    let ends = path.iter().enumerate().filter(|(at, byte)| **byte == b'/' && *at > 0).map(|(at, _)| at).chain([path.len()]);
    for end in ends {
        let part = &path[..end];
        let name = part.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
        if let Some(rule) = compiled.which(part, name) {
            return Ok(Some((patterns[rule].clone(), part.to_vec())));
        }
    }
    Ok(None)
}

/// What is in a listing, and how reading it ended: of one that is damaged, what comes before the damage.
pub(crate) fn entries_of(source: &impl ChunkSource<Error = ClientError>, listing: &Content) -> (Vec<Entry>, Result<()>) {
    let mut entries = Vec::new();
    let read = read_listing(source, listing, &mut |entry| {
        entries.push(entry);
        Ok(())
    });
    (entries, read)
}

pub(crate) fn find(source: &BrowserSource<'_>, point: &OpenPoint, path: &[u8]) -> Result<Option<Entry>> {
    find_entry(source, &point.body.root, path).map_err(|e| match e {
        ReadError::Source(error) => error,
        not_found @ ReadError::NotFound(_) => ClientError::NoPath(not_found.to_string()),
    })
}

/// Listings fetched ahead are not more than this.
const MOST_AHEAD: usize = 256;

/// Gives chunks of the store, opened and checked; can fetch some ahead in one call.
pub(crate) struct BrowserSource<'b> {
    browser: &'b Browser,
    ahead: RefCell<HashMap<ChunkName, Vec<u8>>>,
}

impl BrowserSource<'_> {
    /// Fetches what the listings of these folders begin with, in one call, as far as there is room.
    pub(crate) fn fetch_ahead<'c>(&self, listings: impl Iterator<Item = &'c Content>) -> Result<()> {
        let room = MOST_AHEAD.saturating_sub(self.ahead.borrow().len());
        let first = |content: &Content| content.parts.first().and_then(|part| part.name);
        let names: Vec<ChunkName> = listings.filter_map(first).take(room).collect();
        if names.len() < 2 {
            return Ok(());
        }
        let browser = self.browser;
        browser.source.fetch(&names, |i, sealed| {
            // One that is damaged is reported when it is asked for.
            if let Some(content) = sealed.and_then(|sealed| open_chunk(&browser.keys, &names[i], sealed).ok()) {
                self.ahead.borrow_mut().insert(names[i], content);
            }
            Ok(())
        })
    }
}

impl ChunkSource for BrowserSource<'_> {
    type Error = ClientError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>> {
        if let Some(content) = self.ahead.borrow_mut().remove(name) {
            return Ok(content);
        }
        let browser = self.browser;
        let mut content = None;
        browser.source.fetch(&[*name], |_, sealed| {
            content = Some(open_chunk(&browser.keys, name, sealed.ok_or(ClientError::Damaged)?)?);
            Ok(())
        })?;
        content.ok_or(ClientError::Damaged)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_pattern_that_left_something_out_is_found_with_what_it_matches() {
        let patterns = ["*.tmp".to_owned(), "node_modules".to_owned(), "/home/*/Downloads".to_owned()];
        let against = |path: &str| pattern_against(&patterns, path.as_bytes()).expect("they compile");
        let found = |pattern: &str, at: &str| Some((pattern.to_owned(), at.as_bytes().to_vec()));
        assert_eq!(against("/home/tove/a.tmp"), found("*.tmp", "/home/tove/a.tmp"));
        assert_eq!(against("/home/tove/site/node_modules/x/y.tmp"), found("node_modules", "/home/tove/site/node_modules"));
        assert_eq!(against("/home/tove/Downloads/z"), found("/home/*/Downloads", "/home/tove/Downloads"));
        assert_eq!(against("/home/tove/a.odt"), None);
        assert!(lies_in(b"/home/tove/a", b"/home/tove") && lies_in(b"/a", b"/") && !lies_in(b"/home/tove2", b"/home/tove"));
    }
}
