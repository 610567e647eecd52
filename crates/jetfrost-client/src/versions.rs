//! What something was like in each of the points.

use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_image::tree::{ChunkSource, read_listing};
use jetfrost_wire::point::Point;
use jetfrost_wire::workstation::PointKind;

use crate::browse::Browser;
use crate::error::ClientError;

type Result<T> = std::result::Result<T, ClientError>;

/// A state of something, and the points that have it.
#[derive(Debug, Clone)]
pub struct Version {
    /// What it was.
    pub entry: Entry,
    /// The points, latest first.
    pub points: Vec<Point>,
}

/// What is known of a path in all points.
#[derive(Debug, Clone, Default)]
pub struct Versions {
    /// Each distinct one, that of the latest point first.
    pub versions: Vec<Version>,
    /// Points in which there is nothing at the path, latest first.
    pub absent: Vec<u64>,
    /// Points of which it cannot be told, because they are damaged or lost.
    pub unreadable: Vec<u64>,
}

impl Browser {
    /// What was at `path` in every point of files.
    ///
    /// # Errors
    /// What the service said.
    pub fn versions(&self, path: &[u8]) -> Result<Versions> {
        let mut found = Versions::default();
        let source = self.source();
        let mut looking = Looking::new(&source, path);
        for point in self.points()?.into_iter().filter(|point| point.kind == PointKind::Files) {
            let sequence = point.sequence;
            let looked = if point.lost { Err(ClientError::Damaged) } else { self.open_point(sequence) };
            match looked.and_then(|opened| looking.find(&opened.body.root)) {
                Err(error) if error.is_loss() => found.unreadable.push(sequence),
                Err(other) => return Err(other),
                Ok(None) => found.absent.push(sequence),
                Ok(Some(entry)) => match found.versions.iter_mut().find(|version| is_same_version(&version.entry, &entry)) {
                    Some(version) => version.points.push(point),
                    None => found.versions.push(Version { entry, points: vec![point] }),
                },
            }
        }
        Ok(found)
    }
}

/// Whether nothing of what is in it changed between two states, nor the time at which it changed last.
fn is_same_version(one: &Entry, other: &Entry) -> bool {
    let state = |entry: &Entry| (entry.kind, entry.mtime, entry.mtime_nanos);
    state(one) == state(other) && one.content == other.content && one.target == other.target
}

/// Looks for one path in many points. Most have the same listings on the way, and those are read once.
struct Looking<'l, S> {
    source: &'l S,
    components: Vec<&'l [u8]>,
    /// The listing of each folder on the way in the point before, and what it had of the next name.
    before: Vec<(Content, Option<Entry>)>,
}

impl<'l, S: ChunkSource<Error = ClientError>> Looking<'l, S> {
    fn new(source: &'l S, path: &'l [u8]) -> Self {
        let components = path.split(|byte| *byte == b'/').filter(|component| !component.is_empty()).collect();
        Self { source, components, before: Vec::new() }
    }

    /// What is at the path below this root; the root itself is a folder like any other.
    fn find(&mut self, root: &Content) -> Result<Option<Entry>> {
        let mut found = Entry::new(Vec::new(), EntryKind::Directory);
        found.content = Some(root.clone());
        for at in 0..self.components.len() {
            let Entry { kind: EntryKind::Directory, content: Some(listing), .. } = found else { return Ok(None) };
            match self.in_listing(at, listing)? {
                Some(next) => found = next,
                None => return Ok(None),
            }
        }
        Ok(Some(found))
    }

    fn in_listing(&mut self, at: usize, listing: Content) -> Result<Option<Entry>> {
        if let Some((_, found)) = self.before.get(at).filter(|(before, _)| *before == listing) {
            return Ok(found.clone());
        }
        let (component, mut found) = (self.components[at], None);
        read_listing(self.source, &listing, &mut |entry| {
            if entry.name == component {
                found = Some(entry);
            }
            Ok(())
        })?;
        self.before.truncate(at);
        self.before.push((listing, found.clone()));
        Ok(found)
    }
}
