//! What the last walk saw, so that the next one need not read what did not change.
//!
//! Two files beside the last point's number: the walk in its order, and the names of all chunks the point needs,
//! ascending; and a description, which binds both to the point. A disk may lose or alter any of it, and what is believed
//! here is not read again: so all of it is made durable before the description gets its name, both files carry a hash that
//! the description knows, each record of the walk a check of its own, and the names must be those that the point says it
//! needs. Anything wrong means that there is no cache. Losing it costs reading everything once more, never anything else.

use std::fs::{File, OpenOptions};
use std::io::{BufReader, BufWriter, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::{fs, io};

use super::extents::{Extents, Held};
use super::facts::Stamp;
use jetfrost_image::ChunkName;
use jetfrost_image::format::PointHead;
use jetfrost_image::medium::replace_file;
use serde::{Deserialize, Serialize};

/// Written into the description; another number means another layout, and the memory is not used.
const LAYOUT: u32 = 4;
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
    selection: String,
    /// BLAKE3 of the walk and of the names, in hexadecimal.
    walk: String,
    needs: String,
    /// BLAKE3 of this description with this field empty, in hexadecimal.
    check: String,
}

impl Description {
    /// The check that belongs to the other fields.
    fn own_check(&self) -> Option<String> {
        let unchecked = Self { check: String::new(), ..self.clone() };
        Some(blake3::hash(&serde_json::to_vec(&unchecked).ok()?).to_string())
    }

    fn is_sound(&self) -> bool {
        self.layout == LAYOUT && self.own_check().as_ref() == Some(&self.check)
    }
}

/// The memory of the last point, open for the next walk.
pub(crate) struct ChangeCache {
    pub(crate) sequence: u64,
    pub(crate) files: u64,
    pub(crate) bytes: u64,
    /// What was chosen then, as JSON.
    pub(crate) selection: String,
    /// Names of all chunks that the last point needs, ascending.
    pub(crate) needs: Vec<ChunkName>,
    pub(crate) walk: WalkReader,
}

impl ChangeCache {
    /// Whether there is a cache, sound or not.
    pub(crate) fn is_there(directory: &Path) -> bool {
        directory.join(DESCRIPTION).exists()
    }

    /// Opens the memory if it is sound and belongs to this point of this store.
    pub(crate) fn open(directory: &Path, store: &str, point: &PointHead) -> Option<Self> {
        let description: Description = serde_json::from_slice(&fs::read(directory.join(DESCRIPTION)).ok()?).ok()?;
        if !description.is_sound() || description.store != store || description.point != point.id.to_string() {
            return None;
        }
        let needs = sound_needs(&needs_file(directory, description.sequence), &description.needs, point)?;
        let mut walk = File::open(walk_file(directory, description.sequence)).ok()?;
        if hash_of(&mut walk).ok()? != description.walk {
            return None;
        }
        walk.rewind().ok()?;
        let walk = WalkReader { from: BufReader::with_capacity(1 << 18, walk), next: None, at: 0 };
        Some(Self {
            sequence: description.sequence,
            files: description.files,
            bytes: description.bytes,
            selection: description.selection,
            needs,
            walk,
        })
    }
}

/// The names, if they are those that the point says it needs.
fn sound_needs(path: &Path, hash: &str, point: &PointHead) -> Option<Vec<ChunkName>> {
    let bytes = fs::read(path).ok()?;
    if blake3::hash(&bytes).to_string() != hash || !bytes.len().is_multiple_of(ChunkName::LEN) {
        return None;
    }
    let names: Vec<ChunkName> = bytes.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect();
    let xor = names.iter().fold([0; 32], |xor: [u8; 32], name| std::array::from_fn(|i| xor[i] ^ name.0[i]));
    let is_the_points = names.len() as u64 == point.needed && xor == point.needed_xor && names.is_sorted();
    is_the_points.then_some(names)
}

fn hash_of(file: &mut File) -> io::Result<String> {
    let (mut hasher, mut buffer) = (blake3::Hasher::new(), vec![0; 1 << 20]);
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hasher.finalize().to_string()),
            n => drop(hasher.update(&buffer[..n])),
        }
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
    /// Where in the file the next record begins.
    at: u64,
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
        let bytes = self.record()?;
        let mut fields = Fields(&bytes);
        let record = match fields.bytes::<1>()?[0] {
            LEAF => Record::Leaf(fields.block()?.to_vec(), fields.remembered()?),
            ENTER => Record::Enter(fields.block()?.to_vec()),
            LEAVE => Record::Leave,
            _ => return Err(io::ErrorKind::InvalidData.into()),
        };
        if fields.0.is_empty() { Ok(record) } else { Err(io::ErrorKind::InvalidData.into()) }
    }

    /// The bytes of the next record, which are those that were written there: the file was found sound when it was opened,
    /// but it is read from the disk again.
    fn record(&mut self) -> io::Result<Vec<u8>> {
        let mut head = [0; 8];
        self.from.read_exact(&mut head)?;
        let [a, b, c, d, e, f, g, h] = head;
        let (len, check) = (u32::from_le_bytes([a, b, c, d]), u32::from_le_bytes([e, f, g, h]));
        let bytes = self.bytes_of(len as usize)?;
        if check_of(self.at, &bytes) != check {
            return Err(io::ErrorKind::InvalidData.into());
        }
        self.at += 8 + u64::from(len);
        Ok(bytes)
    }

    fn bytes_of(&mut self, len: usize) -> io::Result<Vec<u8>> {
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

/// The check of a record: its bytes, and where it stands.
fn check_of(at: u64, bytes: &[u8]) -> u32 {
    let mut hasher = crc32fast::Hasher::new();
    hasher.update(&at.to_le_bytes());
    hasher.update(bytes);
    hasher.finalize()
}

/// The fields of a record that are not read yet.
struct Fields<'f>(&'f [u8]);

impl<'f> Fields<'f> {
    fn remembered(&mut self) -> io::Result<Remembered> {
        let stamp = Stamp {
            device: u64::from_le_bytes(self.bytes()?),
            inode: u64::from_le_bytes(self.bytes()?),
            size: u64::from_le_bytes(self.bytes()?),
            mtime: i128::from_le_bytes(self.bytes()?),
            ctime: i128::from_le_bytes(self.bytes()?),
        };
        let bytes = u64::from_le_bytes(self.bytes()?);
        let entry = self.block()?.to_vec();
        let names = self.block()?.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect();
        Ok(Remembered { stamp, bytes, entry, names, extents: self.extents()? })
    }

    fn extents(&mut self) -> io::Result<Extents> {
        let number = u32::from_le_bytes(self.bytes()?);
        let extent = |fields: &mut Self| match fields.bytes()? {
            [NOTHING] => Ok(None),
            [SOMETHING] => Ok(Some(Held { tag: fields.bytes()?, name: ChunkName(fields.bytes()?) })),
            _ => Err(io::ErrorKind::InvalidData.into()),
        };
        (0..number).map(|_| extent(self)).collect()
    }

    fn take(&mut self, n: usize) -> io::Result<&'f [u8]> {
        let (taken, rest) = self.0.split_at_checked(n).ok_or(io::ErrorKind::InvalidData)?;
        self.0 = rest;
        Ok(taken)
    }

    fn bytes<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        Ok(self.take(N)?.try_into().expect("as many as asked for"))
    }

    fn block(&mut self) -> io::Result<&'f [u8]> {
        let len = u32::from_le_bytes(self.bytes()?) as usize;
        self.take(len)
    }
}

/// What the memory is of.
pub(crate) struct Kept<'k> {
    pub(crate) store: &'k str,
    pub(crate) point: &'k str,
    pub(crate) files: u64,
    pub(crate) bytes: u64,
    pub(crate) selection: String,
}

/// Writes the memory of the walk under way. Without [`ChangeCacheWriter::keep`] it is forgotten.
pub(crate) struct ChangeCacheWriter {
    directory: PathBuf,
    sequence: u64,
    out: BufWriter<Hashing>,
    /// The record that is put together.
    record: Vec<u8>,
    /// Where in the file it will begin.
    at: u64,
}

/// A file, and the hash of what was written to it.
struct Hashing {
    file: File,
    hasher: blake3::Hasher,
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let n = self.file.write(bytes)?;
        self.hasher.update(&bytes[..n]);
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl ChangeCacheWriter {
    pub(crate) fn begin(directory: &Path, sequence: u64) -> io::Result<Self> {
        forget_all_but(directory, None)?;
        let file = File::create(directory.join(format!("walk-{sequence}.new")))?;
        let out = BufWriter::with_capacity(1 << 18, Hashing { file, hasher: blake3::Hasher::new() });
        Ok(Self { directory: directory.into(), sequence, out, record: Vec::new(), at: 0 })
    }

    pub(super) fn leaf(&mut self, name: &[u8], seen: &Remembered) -> io::Result<()> {
        self.record.push(LEAF);
        self.block(name)?;
        let stamp = &seen.stamp;
        for number in [stamp.device, stamp.inode, stamp.size] {
            self.record.extend(number.to_le_bytes());
        }
        self.record.extend(stamp.mtime.to_le_bytes());
        self.record.extend(stamp.ctime.to_le_bytes());
        self.record.extend(seen.bytes.to_le_bytes());
        self.block(&seen.entry)?;
        self.length(seen.names.len() * ChunkName::LEN)?;
        seen.names.iter().for_each(|name| self.record.extend(name.as_bytes()));
        self.length(seen.extents.len())?;
        for held in &seen.extents {
            match held {
                None => self.record.push(NOTHING),
                Some(held) => {
                    self.record.push(SOMETHING);
                    self.record.extend(held.tag);
                    self.record.extend(held.name.as_bytes());
                }
            }
        }
        self.end_record()
    }

    pub(super) fn enter(&mut self, name: &[u8]) -> io::Result<()> {
        self.record.push(ENTER);
        self.block(name)?;
        self.end_record()
    }

    pub(super) fn leave(&mut self) -> io::Result<()> {
        self.record.push(LEAVE);
        self.end_record()
    }

    /// Makes this the memory of a point that was committed: both files durable first, then the description that leads to
    /// them.
    pub(crate) fn keep(self, of: &Kept<'_>, needs: &[ChunkName]) -> io::Result<()> {
        let Self { directory, sequence, out, .. } = self;
        let Hashing { file, hasher } = out.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.sync_all()?;
        let needs: Vec<u8> = needs.iter().flat_map(|name| *name.as_bytes()).collect();
        write_durably(&needs_file(&directory, sequence), &needs)?;
        fs::rename(directory.join(format!("walk-{sequence}.new")), walk_file(&directory, sequence))?;
        sync_directory(&directory)?;
        let mut description = Description {
            layout: LAYOUT,
            store: of.store.into(),
            sequence,
            point: of.point.into(),
            files: of.files,
            bytes: of.bytes,
            selection: of.selection.clone(),
            walk: hasher.finalize().to_string(),
            needs: blake3::hash(&needs).to_string(),
            check: String::new(),
        };
        description.check = description.own_check().ok_or(io::ErrorKind::InvalidData)?;
        let json = serde_json::to_vec(&description)?;
        replace_file(&directory.join(DESCRIPTION), &mut OpenOptions::new(), |file| file.write_all(&json))?;
        forget_all_but(&directory, Some(sequence))
    }

    fn block(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.length(bytes.len())?;
        self.record.extend(bytes);
        Ok(())
    }

    fn length(&mut self, len: usize) -> io::Result<()> {
        let len = u32::try_from(len).map_err(|_| io::ErrorKind::InvalidInput)?;
        self.record.extend(len.to_le_bytes());
        Ok(())
    }

    fn end_record(&mut self) -> io::Result<()> {
        let len = u32::try_from(self.record.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        self.out.write_all(&len.to_le_bytes())?;
        self.out.write_all(&check_of(self.at, &self.record).to_le_bytes())?;
        self.out.write_all(&self.record)?;
        self.at += 8 + u64::from(len);
        self.record.clear();
        Ok(())
    }
}

/// Removes the cache: nothing in it is believed any more.
pub(crate) fn forget(directory: &Path) -> io::Result<()> {
    match fs::remove_file(directory.join(DESCRIPTION)) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
        _ => sync_directory(directory),
    }
}

fn write_durably(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = File::create(path)?;
    file.write_all(bytes)?;
    file.sync_all()
}

fn sync_directory(directory: &Path) -> io::Result<()> {
    File::open(directory)?.sync_all()
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
    use jetfrost_image::crypto::{SeededRandom, random_array};
    use jetfrost_image::format::PointKind;
    use jetfrost_image::{PointId, StoreId};

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

    fn written(directory: &Path) -> ChangeCache {
        let mut writer = ChangeCacheWriter::begin(directory, 4).expect("begun");
        writer.leaf(b"a", &seen(1)).expect("written");
        writer.enter(b"b").expect("written");
        writer.leaf(b"inner", &seen(2)).expect("written");
        writer.leave().expect("written");
        writer.leaf(b"c", &seen(3)).expect("written");
        writer.leave().expect("written");
        let of = Kept { store: "store", point: &point().id.to_string(), files: 3, bytes: 21, selection: String::new() };
        writer.keep(&of, &[ChunkName([1; 32]), ChunkName([2; 32])]).expect("kept");
        ChangeCache::open(directory, "store", &point()).expect("there")
    }

    /// The point of which that is the cache.
    fn point() -> PointHead {
        PointHead {
            store: StoreId([1; 16]),
            id: PointId([5; 16]),
            sequence: 4,
            kind: PointKind::Files,
            created: 0,
            previous: None,
            needed: 2,
            needed_xor: [3; 32],
            bytes: 21,
            files: 3,
            exceptions: 0,
            needs: None,
        }
    }

    #[test]
    fn a_walk_in_step_finds_what_it_knows() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut cache = written(directory.path());
        assert_eq!((cache.sequence, cache.files, cache.needs.len()), (4, 3, 2));
        let walk = &mut cache.walk;
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
        let mut cache = written(directory.path());
        assert!(cache.walk.leaf(b"c").expect("read").is_some());
        assert!(!cache.walk.enter(b"z").expect("read"));
        cache.walk.leave().expect("read");
    }

    #[test]
    fn a_file_that_became_a_folder_is_not_known() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut cache = written(directory.path());
        assert!(!cache.walk.enter(b"a").expect("read"));
        assert!(cache.walk.leaf(b"b").expect("read").is_none());
        assert!(cache.walk.leaf(b"c").expect("read").is_some());
    }

    #[test]
    fn another_points_memory_is_not_used() {
        let directory = tempfile::tempdir().expect("a directory");
        drop(written(directory.path()));
        assert!(ChangeCache::open(directory.path(), "store", &PointHead { id: PointId([6; 16]), ..point() }).is_none());
        assert!(ChangeCache::open(directory.path(), "other", &point()).is_none());
        assert!(
            ChangeCache::open(directory.path(), "store", &PointHead { needed_xor: [4; 32], ..point() }).is_none(),
            "other needs"
        );
    }

    #[test]
    fn a_walk_broken_off_leaves_the_memory_of_the_last_point() {
        let directory = tempfile::tempdir().expect("a directory");
        drop(written(directory.path()));
        let mut writer = ChangeCacheWriter::begin(directory.path(), 5).expect("begun");
        writer.leaf(b"a", &seen(9)).expect("written");
        drop(writer);
        assert_eq!(ChangeCache::open(directory.path(), "store", &point()).expect("there").sequence, 4);
    }

    /// Everything that is in the cache, as a walk would find it; `None` when there is none.
    fn read_through(directory: &Path) -> Option<Vec<String>> {
        let mut cache = ChangeCache::open(directory, "store", &point())?;
        let mut found = vec![format!("{:?} {} {}", cache.needs, cache.files, cache.bytes)];
        while let Ok(record) = cache.walk.take() {
            found.push(match record {
                Record::Leaf(name, seen) => format!("{name:?} {seen:?}"),
                Record::Enter(name) => format!("{name:?}"),
                Record::Leave => "leave".into(),
            });
        }
        Some(found)
    }

    /// Five hundred ways of a disk to alter what it was given: a flipped bit, a zeroed block, a file cut short or gone, the
    /// file of an earlier walk.
    #[test]
    fn a_damaged_memory_is_none_at_all() {
        let directory = tempfile::tempdir().expect("a directory");
        let random = SeededRandom::new(b"damage");
        drop(written(directory.path()));
        let files: Vec<PathBuf> = fs::read_dir(directory.path()).expect("listed").map(|e| e.expect("an entry").path()).collect();
        let sound: Vec<Vec<u8>> = files.iter().map(|path| fs::read(path).expect("read")).collect();
        let whole = read_through(directory.path()).expect("sound");
        for trial in 0..500 {
            let [which, what, at, bit] = random_array::<8>(&random)
                .chunks_exact(2)
                .map(|n| usize::from(n[0]) << 8 | usize::from(n[1]))
                .collect::<Vec<_>>()[..]
            else {
                panic!("four numbers")
            };
            let (path, sound) = (&files[which % files.len()], &sound[which % files.len()]);
            let mut bytes = sound.clone();
            let at = at % bytes.len();
            match what % 4 {
                0 => bytes[at] ^= 1 << (bit % 8),
                1 => bytes[at..].fill(0),
                2 => bytes.truncate(at),
                _ => bytes.extend_from_within(at..),
            }
            fs::write(path, &bytes).expect("damaged");
            let read = read_through(directory.path());
            assert!(read.is_none() || (bytes == *sound && read.as_ref() == Some(&whole)), "trial {trial} in {}", path.display());
            fs::write(path, sound).expect("mended");
        }
        assert_eq!(read_through(directory.path()), Some(whole));
    }

    /// The disk gives other bytes than a moment ago, when the whole file was found sound.
    #[test]
    fn a_record_that_changes_under_the_walk_is_noticed() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut cache = written(directory.path());
        let path = walk_file(directory.path(), 4);
        let mut bytes = fs::read(&path).expect("read");
        bytes[40] ^= 1;
        fs::write(&path, bytes).expect("altered");
        assert!(cache.walk.leaf(b"a").is_err());
    }
}
