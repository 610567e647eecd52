//! What the last walk saw, so that the next one need not read what did not change.
//!
//! Two files beside the last point's number: the walk in its order, and the names of all chunks the point needs,
//! ascending. They are this machine's own; losing them costs reading everything once more, never anything else.

use std::fs::{self, File};
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

use jetfrost_image::ChunkName;
use serde::{Deserialize, Serialize};

use super::extents::{Extents, Held};
use super::facts::Stamp;

/// Written into the description; another number means another layout, and the memory is not used.
const LAYOUT: u32 = 3;
const DESCRIPTION: &str = "last.json";

/// Nearly all that is remembered of a file is no longer than this.
const SHORT: usize = 4096;

const LEAF: u8 = 1;
const ENTER: u8 = 2;
const LEAVE: u8 = 3;

const NOTHING: u8 = 0;
const SOMETHING: u8 = 1;

/// Which point the memory belongs to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Description {
    layout: u32,
    store: String,
    sequence: u64,
    point: String,
    files: u64,
    bytes: u64,
    /// What was chosen then, as JSON.
    chosen: String,
}

/// The memory of the last point, open for the next walk.
pub(crate) struct Memory {
    pub(crate) sequence: u64,
    pub(crate) files: u64,
    pub(crate) bytes: u64,
    /// What was chosen then, as JSON.
    pub(crate) chosen: String,
    /// Names of all chunks that the last point needs, ascending.
    pub(crate) needs: Vec<ChunkName>,
    pub(crate) walk: WalkReader,
}

impl Memory {
    /// Opens the memory if it belongs to this point of this store.
    pub(crate) fn open(directory: &Path, store: &str, point: &str) -> Option<Self> {
        let description: Description = serde_json::from_slice(&fs::read(directory.join(DESCRIPTION)).ok()?).ok()?;
        if description.layout != LAYOUT || description.store != store || description.point != point {
            return None;
        }
        let needs = fs::read(needs_file(directory, description.sequence)).ok()?;
        let needs = needs.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect::<Vec<_>>();
        let walk = File::open(walk_file(directory, description.sequence)).ok()?;
        if !needs.is_sorted() {
            return None;
        }
        let walk = WalkReader { from: BufReader::with_capacity(1 << 18, walk), next: None };
        Some(Self {
            sequence: description.sequence,
            files: description.files,
            bytes: description.bytes,
            chosen: description.chosen,
            needs,
            walk,
        })
    }
}

fn walk_file(directory: &Path, sequence: u64) -> PathBuf {
    directory.join(format!("walk-{sequence}"))
}

fn needs_file(directory: &Path, sequence: u64) -> PathBuf {
    directory.join(format!("needs-{sequence}"))
}

/// What the last walk knew of a file.
#[derive(Debug)]
pub(super) struct Remembered {
    pub(super) stamp: Stamp,
    pub(super) bytes: u64,
    /// The entry as it stands in the listing.
    pub(super) entry: Vec<u8>,
    /// All chunks behind it.
    pub(super) names: Vec<ChunkName>,
    /// Of a disk: what each extent held.
    pub(super) extents: Extents,
}

enum Record {
    Leaf(Vec<u8>, Remembered),
    Enter(Vec<u8>),
    Leave,
}

/// Reads the last walk in step with the present one; both go through names in the same order.
pub(crate) struct WalkReader {
    from: BufReader<File>,
    next: Option<Record>,
}

impl WalkReader {
    /// What is remembered of `name` in the present directory.
    pub(super) fn leaf(&mut self, name: &[u8]) -> io::Result<Option<Remembered>> {
        self.advance(name)?;
        match self.next.take() {
            Some(Record::Leaf(found, remembered)) if found == name => Ok(Some(remembered)),
            other => {
                self.next = other;
                Ok(None)
            }
        }
    }

    /// Goes into the directory `name`, if it is remembered.
    pub(super) fn enter(&mut self, name: &[u8]) -> io::Result<bool> {
        self.advance(name)?;
        match self.next.take() {
            Some(Record::Enter(found)) if found == name => Ok(true),
            other => {
                self.next = other;
                Ok(false)
            }
        }
    }

    /// Leaves the present directory, past whatever is left in it.
    pub(super) fn leave(&mut self) -> io::Result<()> {
        loop {
            match self.take()? {
                Record::Leave => return Ok(()),
                Record::Enter(_) => self.leave()?,
                Record::Leaf(..) => {}
            }
        }
    }

    /// Goes past names before `name`: they are gone, or are now something else.
    fn advance(&mut self, name: &[u8]) -> io::Result<()> {
        loop {
            match self.take()? {
                Record::Leaf(found, _) if found.as_slice() < name => {}
                Record::Enter(found) if found.as_slice() < name => self.leave()?,
                other => {
                    self.next = Some(other);
                    return Ok(());
                }
            }
        }
    }

    fn take(&mut self) -> io::Result<Record> {
        if let Some(record) = self.next.take() {
            return Ok(record);
        }
        match self.bytes::<1>()?[0] {
            LEAF => Ok(Record::Leaf(self.block()?, self.remembered()?)),
            ENTER => Ok(Record::Enter(self.block()?)),
            LEAVE => Ok(Record::Leave),
            _ => Err(io::ErrorKind::InvalidData.into()),
        }
    }

    fn remembered(&mut self) -> io::Result<Remembered> {
        let stamp = Stamp {
            device: u64::from_le_bytes(self.bytes()?),
            inode: u64::from_le_bytes(self.bytes()?),
            size: u64::from_le_bytes(self.bytes()?),
            mtime: i128::from_le_bytes(self.bytes()?),
            ctime: i128::from_le_bytes(self.bytes()?),
        };
        let bytes = u64::from_le_bytes(self.bytes()?);
        let entry = self.block()?;
        let names = self.block()?.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect();
        Ok(Remembered { stamp, bytes, entry, names, extents: self.extents()? })
    }

    fn extents(&mut self) -> io::Result<Extents> {
        let number = u32::from_le_bytes(self.bytes()?);
        let extent = |reader: &mut Self| match reader.bytes()? {
            [NOTHING] => Ok(None),
            [SOMETHING] => Ok(Some(Held { tag: reader.bytes()?, name: ChunkName(reader.bytes()?) })),
            _ => Err(io::ErrorKind::InvalidData.into()),
        };
        (0..number).map(|_| extent(self)).collect()
    }

    fn bytes<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        let mut bytes = [0; N];
        self.from.read_exact(&mut bytes)?;
        Ok(bytes)
    }

    fn block(&mut self) -> io::Result<Vec<u8>> {
        let len = u32::from_le_bytes(self.bytes()?) as usize;
        if len <= SHORT {
            let mut bytes = vec![0; len];
            return self.from.read_exact(&mut bytes).map(|()| bytes);
        }
        // A damaged length is not believed before the bytes are there.
        let mut bytes = Vec::new();
        let read = (&mut self.from).take(len as u64).read_to_end(&mut bytes)?;
        if read == len { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

/// What the memory is of.
pub(crate) struct Kept<'k> {
    pub(crate) store: &'k str,
    pub(crate) point: &'k str,
    pub(crate) files: u64,
    pub(crate) bytes: u64,
    pub(crate) chosen: String,
}

/// Writes the memory of the walk under way. Without [`MemoryWriter::keep`] it is forgotten.
pub(crate) struct MemoryWriter {
    directory: PathBuf,
    sequence: u64,
    out: BufWriter<File>,
}

impl MemoryWriter {
    pub(crate) fn begin(directory: &Path, sequence: u64) -> io::Result<Self> {
        forget_all_but(directory, None)?;
        let out = BufWriter::with_capacity(1 << 18, File::create(directory.join(format!("walk-{sequence}.new")))?);
        Ok(Self { directory: directory.into(), sequence, out })
    }

    pub(super) fn leaf(&mut self, name: &[u8], seen: &Remembered) -> io::Result<()> {
        self.out.write_all(&[LEAF])?;
        self.block(name)?;
        let stamp = &seen.stamp;
        for number in [stamp.device, stamp.inode, stamp.size] {
            self.out.write_all(&number.to_le_bytes())?;
        }
        self.out.write_all(&stamp.mtime.to_le_bytes())?;
        self.out.write_all(&stamp.ctime.to_le_bytes())?;
        self.out.write_all(&seen.bytes.to_le_bytes())?;
        self.block(&seen.entry)?;
        self.length(seen.names.len() * ChunkName::LEN)?;
        seen.names.iter().try_for_each(|name| self.out.write_all(name.as_bytes()))?;
        self.length(seen.extents.len())?;
        seen.extents.iter().try_for_each(|held| match held {
            None => self.out.write_all(&[NOTHING]),
            Some(held) => {
                self.out.write_all(&[SOMETHING])?;
                self.out.write_all(&held.tag)?;
                self.out.write_all(held.name.as_bytes())
            }
        })
    }

    pub(super) fn enter(&mut self, name: &[u8]) -> io::Result<()> {
        self.out.write_all(&[ENTER])?;
        self.block(name)
    }

    pub(super) fn leave(&mut self) -> io::Result<()> {
        self.out.write_all(&[LEAVE])
    }

    /// Makes this the memory of a point that was committed.
    pub(crate) fn keep(mut self, of: &Kept<'_>, needs: &[ChunkName]) -> io::Result<()> {
        self.out.flush()?;
        let mut out = BufWriter::with_capacity(1 << 18, File::create(needs_file(&self.directory, self.sequence))?);
        needs.iter().try_for_each(|name| out.write_all(name.as_bytes()))?;
        out.flush()?;
        let written = self.directory.join(format!("walk-{}.new", self.sequence));
        fs::rename(written, walk_file(&self.directory, self.sequence))?;
        let description = Description {
            layout: LAYOUT,
            store: of.store.into(),
            sequence: self.sequence,
            point: of.point.into(),
            files: of.files,
            bytes: of.bytes,
            chosen: of.chosen.clone(),
        };
        let temporary = self.directory.join("last.json.new");
        fs::write(&temporary, serde_json::to_vec(&description)?)?;
        fs::rename(temporary, self.directory.join(DESCRIPTION))?;
        forget_all_but(&self.directory, Some(self.sequence))
    }

    fn block(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.length(bytes.len())?;
        self.out.write_all(bytes)
    }

    fn length(&mut self, len: usize) -> io::Result<()> {
        let len = u32::try_from(len).map_err(|_| io::ErrorKind::InvalidInput)?;
        self.out.write_all(&len.to_le_bytes())
    }
}

/// Removes what no description leads to: leftovers of walks that were broken off (`None`) or of earlier points.
fn forget_all_but(directory: &Path, sequence: Option<u64>) -> io::Result<()> {
    for entry in fs::read_dir(directory)? {
        let name = entry?.file_name();
        let Some(name) = name.to_str() else { continue };
        let is_left_over = name.ends_with(".new");
        let is_earlier = sequence.is_some_and(|s| name != DESCRIPTION && !name.ends_with(&format!("-{s}")));
        if is_left_over || is_earlier {
            fs::remove_file(directory.join(name))?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(n: u8) -> Remembered {
        Remembered {
            stamp: Stamp { inode: n.into(), ..Stamp::default() },
            bytes: 7,
            entry: vec![n; 3],
            names: vec![ChunkName([n; 32])],
            extents: vec![None, Some(Held { tag: [n; 16], name: ChunkName([n; 32]) })],
        }
    }

    fn written(directory: &Path) -> Memory {
        let mut writer = MemoryWriter::begin(directory, 4).expect("begun");
        writer.leaf(b"a", &seen(1)).expect("written");
        writer.enter(b"b").expect("written");
        writer.leaf(b"inner", &seen(2)).expect("written");
        writer.leave().expect("written");
        writer.leaf(b"c", &seen(3)).expect("written");
        writer.leave().expect("written");
        let of = Kept { store: "store", point: "point", files: 3, bytes: 21, chosen: String::new() };
        writer.keep(&of, &[ChunkName([1; 32]), ChunkName([2; 32])]).expect("kept");
        Memory::open(directory, "store", "point").expect("there")
    }

    #[test]
    fn a_walk_in_step_finds_what_it_knows() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut memory = written(directory.path());
        assert_eq!((memory.sequence, memory.files, memory.needs.len()), (4, 3, 2));
        let walk = &mut memory.walk;
        assert_eq!(walk.leaf(b"a").expect("read").expect("known").stamp.inode, 1);
        assert!(walk.leaf(b"aa").expect("read").is_none());
        assert!(walk.enter(b"b").expect("read"));
        assert!(walk.leaf(b"in").expect("read").is_none());
        let inner = walk.leaf(b"inner").expect("read").expect("known");
        assert_eq!((inner.entry, inner.extents), (vec![2; 3], seen(2).extents));
        walk.leave().expect("read");
        assert_eq!(walk.leaf(b"c").expect("read").expect("known").names, [ChunkName([3; 32])]);
    }

    #[test]
    fn what_is_gone_is_passed_over_with_all_below_it() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut memory = written(directory.path());
        assert!(memory.walk.leaf(b"c").expect("read").is_some());
        assert!(!memory.walk.enter(b"z").expect("read"));
        memory.walk.leave().expect("read");
    }

    #[test]
    fn a_file_that_became_a_folder_is_not_known() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut memory = written(directory.path());
        assert!(!memory.walk.enter(b"a").expect("read"));
        assert!(memory.walk.leaf(b"b").expect("read").is_none());
        assert!(memory.walk.leaf(b"c").expect("read").is_some());
    }

    #[test]
    fn another_points_memory_is_not_used() {
        let directory = tempfile::tempdir().expect("a directory");
        drop(written(directory.path()));
        assert!(Memory::open(directory.path(), "store", "other").is_none());
        assert!(Memory::open(directory.path(), "other", "point").is_none());
    }

    #[test]
    fn a_walk_broken_off_leaves_the_memory_of_the_last_point() {
        let directory = tempfile::tempdir().expect("a directory");
        drop(written(directory.path()));
        let mut writer = MemoryWriter::begin(directory.path(), 5).expect("begun");
        writer.leaf(b"a", &seen(9)).expect("written");
        drop(writer);
        assert_eq!(Memory::open(directory.path(), "store", "point").expect("there").sequence, 4);
    }
}
