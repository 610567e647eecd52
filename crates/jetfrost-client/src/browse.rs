//! Looking into recovery points.

use std::cell::RefCell;
use std::collections::HashMap;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{StoreKeys, open_chunk, open_point};
use jetfrost_image::format::{Content, PointBody, PointHead, exceptions_from_page};
use jetfrost_image::tree::{ChunkSource, ReadError, expand_parts, find_entry, read_listing};
use jetfrost_wire::point::Point;
use jetfrost_wire::workstation::PointKind;
use jiff::civil;
use jiff::tz::TimeZone;

use crate::error::ClientError;
use crate::state_dir::StateDir;
use crate::store_source::StoreSource;

pub use jetfrost_image::format::{Cause, Entry, EntryKind, Exception};

type Result<T> = std::result::Result<T, ClientError>;

/// Which recovery point a person means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum At {
    /// The latest.
    Latest,
    /// The one with this number.
    Sequence(u64),
    /// The last one not after this moment, in the machine's time zone.
    Time(civil::DateTime),
}

impl std::str::FromStr for At {
    type Err = String;

    fn from_str(text: &str) -> std::result::Result<Self, String> {
        if text == "latest" {
            return Ok(Self::Latest);
        }
        if let Ok(sequence) = text.parse() {
            return Ok(Self::Sequence(sequence));
        }
        if let Ok(date) = text.parse::<civil::Date>()
            && text.len() == 10
        {
            return Ok(Self::Time(date.at(23, 59, 59, 999_999_999)));
        }
        text.parse()
            .map(Self::Time)
            .map_err(|_| format!("'{text}' is neither 'latest', nor a number, nor a time such as 2026-11-20T14:00"))
    }
}

impl At {
    /// Finds the point, of a kind if one is given, among `points`, which come latest first.
    fn find<'p>(&self, points: &'p [Point], kind: Option<PointKind>) -> Option<&'p Point> {
        let mut of_kind = points.iter().filter(|p| kind.is_none_or(|kind| p.kind == kind));
        match self {
            Self::Latest => of_kind.next(),
            Self::Sequence(sequence) => of_kind.find(|p| p.sequence == *sequence),
            Self::Time(time) => {
                let moment = time.to_zoned(TimeZone::system()).ok()?.timestamp();
                of_kind.find(|p| p.committed <= moment)
            }
        }
    }
}

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
}

impl Browser {
    /// Looks as the workstation of this state directory.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`].
    pub fn open(state_dir: &StateDir) -> Result<Self> {
        let (membership, api) = state_dir.device_api()?;
        let keys = state_dir.keys(&membership)?;
        Ok(Self { source: StoreSource::Service { api, membership: Box::new(membership) }, keys })
    }

    /// The points, latest first.
    ///
    /// # Errors
    /// What the service said.
    pub fn points(&self) -> Result<Vec<Point>> {
        self.source.points()
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
            At::Time(time) => ClientError::NoPoint(format!("of {} from {time} or before", kind.plural())),
        };
        self.open_point(at.find(&points, Some(kind)).ok_or_else(refusal)?.sequence)
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
            At::Time(time) => ClientError::NoPoint(format!("from {time} or before")),
        };
        self.open_point(at.find(&points, None).ok_or_else(refusal)?.sequence)
    }

    fn open_point(&self, sequence: u64) -> Result<OpenPoint> {
        let file = self.source.point(sequence)?;
        let body = open_point(&self.keys, &file)?;
        Ok(OpenPoint { head: file.head, body })
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
        let mut entries = Vec::new();
        read_listing(&source, &listing, &mut |entry| {
            entries.push(entry);
            Ok(())
        })?;
        Ok(entries)
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

    fn point(sequence: u64, created: &str) -> Point {
        Point {
            sequence,
            kind: if sequence == 6 { PointKind::Disk } else { PointKind::Files },
            committed: created.parse().expect("a time"),
            files: 0,
            bytes: 0,
            exceptions: 0,
            sent: 0,
            hold: None,
            pending_removal: None,
            lost: false,
        }
    }

    #[test]
    fn a_point_is_meant_by_number_time_or_as_the_latest() {
        let points = [
            point(9, "2026-11-20T12:00:00Z"),
            point(8, "2026-11-18T12:00:00Z"),
            point(6, "2026-11-12T01:00:00Z"),
            point(5, "2026-11-10T12:00:00Z"),
        ];
        let found = |text: &str| text.parse::<At>().expect("parses").find(&points, Some(PointKind::Files)).map(|p| p.sequence);
        assert_eq!(found("latest"), Some(9));
        assert_eq!(found("8"), Some(8));
        assert_eq!(found("7"), None);
        assert_eq!(found("6"), None, "it is of another kind");
        assert_eq!(found("2026-11-19"), Some(8));
        assert_eq!(found("2026-11-12T08:00"), Some(5));
        assert_eq!(found("2026-11-01"), None);
        assert!("yesterday".parse::<At>().is_err());
    }
}
