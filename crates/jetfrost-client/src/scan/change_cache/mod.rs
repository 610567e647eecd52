//! What the last walk saw, so that the next one need not read what did not change, and need not even look at it where that is known.
//!
//! Three files beside the last point's number: the walk itself, folder by folder; its folders with those that they are in; and the chunks that
//! the point needs. A description binds them to the point. A disk may lose or alter any of it, and what is believed here is not read
//! again: so all of it is made durable before the description gets its name; the description has a check of its own, refers to the walk's
//! outermost folder by its hash, as each folder does to what it holds, and knows the hashes of the other two; and the chunks must be those
//! that the point says it needs. Anything wrong means that there is no cache. Losing it costs reading everything once more, never
//! anything else.
//!
//! A walk that looks at everything begins new files. One that takes folders over adds to those that are there.

mod blocks;
mod folders;
mod needs;
mod reader;
mod writer;

use std::fs::{File, OpenOptions};
use std::io::{BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::{fs, io};

use jetfrost_image::ChunkName;
use jetfrost_image::format::PointHead;
use jetfrost_image::medium::replace_file;
use serde::{Deserialize, Serialize};

use super::Counts;
use blocks::BlockRef;
use writer::WalkWriter;

pub(crate) use blocks::{Remembered, RememberedFolder, RememberedInside};
pub use folders::FolderId;
pub(crate) use folders::KnownFolders;
pub(crate) use folders::SeenFolder;
pub(crate) use needs::{Difference, Needs};
pub(crate) use reader::WalkReader;

/// Written into the description; another number means another layout, and the memory is not used.
const LAYOUT: u32 = 6;
const DESCRIPTION: &str = "last.json";

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
    /// The point at which the files of walk and folders were begun.
    begun: u64,
    /// The outermost folder of the walk: where, how long, and its hash in hexadecimal; and how long the walk is.
    root: (u64, u32, String),
    walk: u64,
    /// How long the folders are, and their BLAKE3 in hexadecimal.
    folders: (u64, String),
    /// The point whose file of needs it is, and its BLAKE3 in hexadecimal.
    needs: (u64, String),
    /// Chunks that the point needs beside the walk, in hexadecimal.
    beside: Vec<String>,
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

    fn root(&self) -> Option<BlockRef> {
        let (at, len, hash) = &self.root;
        let hash = data_encoding::HEXLOWER.decode(hash.as_bytes()).ok()?.try_into().ok()?;
        Some(BlockRef { at: *at, len: *len, hash })
    }
}

/// The memory of the last point, open for the next walk.
pub(crate) struct ChangeCache {
    directory: PathBuf,
    description: Description,
    root: BlockRef,
    /// Chunks that the last point needs.
    pub(crate) needs: Needs,
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
        let (of, hash) = &description.needs;
        let needs = Needs::read(sound(&needs_file(directory, *of), hash)?).filter(|needs| needs.are_of(point))?;
        let root = description.root()?;
        let walk = walk_file(directory, description.begun);
        (fs::metadata(walk).ok()?.len() >= description.walk).then_some(())?;
        Some(Self { directory: directory.into(), root, needs, description })
    }

    /// The number of its point.
    pub(crate) fn sequence(&self) -> u64 {
        self.description.sequence
    }

    /// The point, in hexadecimal.
    pub(crate) fn point(&self) -> &str {
        &self.description.point
    }

    /// What was chosen then, as JSON.
    pub(crate) fn selection(&self) -> &str {
        &self.description.selection
    }

    /// Files and bytes of its point.
    pub(crate) fn size(&self) -> (u64, u64) {
        (self.description.files, self.description.bytes)
    }

    /// The walk, for one in step with it. `notes` the chunks of all that is read of it.
    pub(crate) fn walk(&self, notes: bool) -> io::Result<WalkReader> {
        WalkReader::new(File::open(walk_file(&self.directory, self.description.begun))?, self.root, notes)
    }

    /// The folders of the walk; none where they are damaged.
    pub(crate) fn folders(&self) -> Option<KnownFolders> {
        let (len, hash) = &self.description.folders;
        let mut bytes = Vec::new();
        let file = File::open(folders_file(&self.directory, self.description.begun)).ok()?;
        file.take(*len).read_to_end(&mut bytes).ok()?;
        (blake3::hash(&bytes).to_string() == *hash).then_some(())?;
        KnownFolders::read(&bytes).ok()
    }

    /// Chunks that the point needs beside the walk; none where they cannot be told.
    pub(crate) fn beside(&self) -> Option<Vec<ChunkName>> {
        let name = |hex: &String| data_encoding::HEXLOWER.decode(hex.as_bytes()).ok()?.try_into().ok().map(ChunkName);
        self.description.beside.iter().map(name).collect()
    }
}

/// The bytes of a file, if they have this hash.
fn sound(path: &Path, hash: &str) -> Option<Vec<u8>> {
    let bytes = fs::read(path).ok()?;
    (blake3::hash(&bytes).to_string() == hash).then_some(bytes)
}

fn walk_file(directory: &Path, begun: u64) -> PathBuf {
    directory.join(format!("walk-{begun}"))
}

fn folders_file(directory: &Path, begun: u64) -> PathBuf {
    directory.join(format!("folders-{begun}"))
}

fn needs_file(directory: &Path, sequence: u64) -> PathBuf {
    directory.join(format!("needs-{sequence}"))
}

/// The name of a file while it is written.
fn unfinished(path: &Path) -> PathBuf {
    path.with_extension("new")
}

/// What the memory is of.
pub(crate) struct Kept<'k> {
    pub(crate) store: &'k str,
    pub(crate) point: &'k str,
    pub(crate) files: u64,
    pub(crate) bytes: u64,
    pub(crate) selection: String,
    /// Chunks that the point needs beside the walk.
    pub(crate) beside: &'k [ChunkName],
}

/// Writes the memory of the walk under way. Without [`ChangeCacheWriter::keep`] it is forgotten.
pub(crate) struct ChangeCacheWriter {
    directory: PathBuf,
    sequence: u64,
    begun: u64,
    walk: WalkWriter,
    folders: BufWriter<File>,
    /// The outermost folder, once it was left.
    root: Option<RememberedInside>,
    depth: usize,
    /// Of a walk that goes on: which needs are those of the point before.
    needs_before: Option<(u64, String)>,
}

impl ChangeCacheWriter {
    /// Begins anew.
    pub(crate) fn begin(directory: &Path, sequence: u64) -> io::Result<Self> {
        forget_leftovers(directory)?;
        let new = |path: PathBuf| OpenOptions::new().create(true).truncate(true).write(true).open(unfinished(&path));
        Ok(Self {
            directory: directory.into(),
            sequence,
            begun: sequence,
            walk: WalkWriter::new(new(walk_file(directory, sequence))?, 0)?,
            folders: BufWriter::new(new(folders_file(directory, sequence))?),
            root: None,
            depth: 0,
            needs_before: None,
        })
    }

    /// Goes on with what is there: folders may be taken over.
    pub(crate) fn go_on(cache: &ChangeCache, sequence: u64) -> io::Result<Self> {
        let Description { begun, walk, folders, needs, .. } = &cache.description;
        let there = |path: PathBuf| OpenOptions::new().write(true).open(path);
        let mut file = there(folders_file(&cache.directory, *begun))?;
        file.set_len(folders.0)?;
        io::Seek::seek(&mut file, io::SeekFrom::End(0))?;
        Ok(Self {
            directory: cache.directory.clone(),
            sequence,
            begun: *begun,
            walk: WalkWriter::new(there(walk_file(&cache.directory, *begun))?, *walk)?,
            folders: BufWriter::new(file),
            root: None,
            depth: 0,
            needs_before: Some(needs.clone()),
        })
    }

    pub(crate) fn leaf(&mut self, name: &[u8], seen: &Remembered) -> io::Result<()> {
        self.walk.leaf(name, seen)
    }

    /// A folder in the present one, after what is in it.
    pub(crate) fn folder(&mut self, name: &[u8], seen: &RememberedFolder) -> io::Result<()> {
        self.walk.folder(name, seen)
    }

    /// A folder that was gone into.
    pub(crate) fn folder_seen(&mut self, seen: &SeenFolder) -> io::Result<()> {
        seen.write(&mut self.folders)
    }

    pub(crate) fn enter(&mut self) {
        self.depth += 1;
        self.walk.enter();
    }

    /// Leaves the present folder: the chunks of its listing, and what was counted in it and below.
    pub(crate) fn leave(&mut self, listing: &[ChunkName], counts: Counts) -> io::Result<RememberedInside> {
        let inside = self.walk.leave(listing, counts)?;
        self.depth -= 1;
        if self.depth == 0 {
            self.root = Some(inside);
        }
        Ok(inside)
    }

    /// Makes this the memory of a point that was committed: all files durable first, then the description that leads to them. Without
    /// `needs` they are those of the point before.
    pub(crate) fn keep(self, of: &Kept<'_>, needs: Option<&Needs>) -> io::Result<()> {
        let Self { directory, sequence, begun, walk, folders, root, needs_before, .. } = self;
        let root = root.ok_or(io::ErrorKind::InvalidInput)?.folder;
        let walk = walk.finish()?;
        folders.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
        for path in [walk_file(&directory, begun), folders_file(&directory, begun)] {
            if begun == sequence {
                fs::rename(unfinished(&path), &path)?;
            }
        }
        let needs = match needs {
            Some(needs) => (sequence, write_needs(&needs_file(&directory, sequence), needs)?),
            None => needs_before.ok_or(io::ErrorKind::InvalidInput)?,
        };
        let needs_of = needs.0;
        sync_directory(&directory)?;
        let mut description = Description {
            layout: LAYOUT,
            store: of.store.into(),
            sequence,
            point: of.point.into(),
            files: of.files,
            bytes: of.bytes,
            selection: of.selection.clone(),
            begun,
            root: (root.at, root.len, data_encoding::HEXLOWER.encode(&root.hash)),
            walk,
            folders: length_and_hash(&folders_file(&directory, begun))?,
            needs,
            beside: of.beside.iter().map(|name| data_encoding::HEXLOWER.encode(name.as_bytes())).collect(),
            check: String::new(),
        };
        description.check = description.own_check().ok_or(io::ErrorKind::InvalidData)?;
        let json = serde_json::to_vec(&description)?;
        replace_file(&directory.join(DESCRIPTION), &mut OpenOptions::new(), |file| file.write_all(&json))?;
        forget_all_but(&directory, begun, needs_of)
    }
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

/// Writes them durably. Returns their BLAKE3 in hexadecimal.
fn write_needs(path: &Path, needs: &Needs) -> io::Result<String> {
    let mut out = BufWriter::with_capacity(1 << 18, Hashing { file: File::create(path)?, hasher: blake3::Hasher::new() });
    needs.write(&mut out)?;
    let Hashing { file, hasher } = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    file.sync_all()?;
    Ok(hasher.finalize().to_string())
}

fn length_and_hash(path: &Path) -> io::Result<(u64, String)> {
    let (mut file, mut hasher, mut buffer) = (File::open(path)?, blake3::Hasher::new(), vec![0; 1 << 18]);
    let mut len = 0;
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok((len, hasher.finalize().to_string())),
            n => {
                len += n as u64;
                hasher.update(&buffer[..n]);
            }
        }
    }
}

/// Removes the cache: nothing in it is believed any more.
pub(crate) fn forget(directory: &Path) -> io::Result<()> {
    match fs::remove_file(directory.join(DESCRIPTION)) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
        _ => sync_directory(directory),
    }
}

fn sync_directory(directory: &Path) -> io::Result<()> {
    File::open(directory)?.sync_all()
}

/// Removes what is left of walks that were broken off.
fn forget_leftovers(directory: &Path) -> io::Result<()> {
    remove_where(directory, |name| name.ends_with(".new"))
}

/// Removes what the description does not lead to.
fn forget_all_but(directory: &Path, begun: u64, needs_of: u64) -> io::Result<()> {
    let kept = [
        walk_file(directory, begun),
        folders_file(directory, begun),
        needs_file(directory, needs_of),
        directory.join(DESCRIPTION),
    ];
    remove_where(directory, |name| !kept.iter().any(|path| path.ends_with(name)))
}

fn remove_where(directory: &Path, is_to_go: impl Fn(&str) -> bool) -> io::Result<()> {
    for entry in fs::read_dir(directory)? {
        let name = entry?.file_name();
        if name.to_str().is_some_and(&is_to_go) {
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

    use super::super::extents::Held;
    use super::super::facts::Stamp;
    use super::super::form::Form;
    use super::*;

    fn seen(n: u8) -> Remembered {
        Remembered {
            stamp: Stamp { inode: n.into(), ..Stamp::default() },
            bytes: 7,
            form: Form::Text,
            entry: vec![n; 3],
            names: vec![ChunkName([n; 32])],
            extents: vec![None, Some(Held { tag: [n; 16], name: ChunkName([n; 32]) })],
        }
    }

    fn seen_folder(inside: RememberedInside) -> RememberedFolder {
        RememberedFolder {
            stamp: Stamp { inode: 9, ..Stamp::default() },
            entry: vec![9; 3],
            names: Vec::new(),
            inside: Some(inside),
        }
    }

    fn needs() -> Needs {
        Needs::of(vec![ChunkName([1; 32]), ChunkName([2; 32])])
    }

    fn kept(writer: ChangeCacheWriter, directory: &Path) -> ChangeCache {
        let point = point().id.to_string();
        let of = Kept { store: "store", point: &point, files: 3, bytes: 21, selection: String::new(), beside: &[] };
        writer.keep(&of, Some(&needs())).expect("kept");
        ChangeCache::open(directory, "store", &self::point()).expect("there")
    }

    /// `a`, `b/inner` and `c`.
    fn written(directory: &Path) -> ChangeCache {
        let mut writer = ChangeCacheWriter::begin(directory, 4).expect("begun");
        writer.enter();
        writer.leaf(b"a", &seen(1)).expect("written");
        writer.enter();
        writer.leaf(b"inner", &seen(2)).expect("written");
        let inside = writer.leave(&[ChunkName([8; 32])], Counts { files: 1, ..Counts::default() }).expect("written");
        writer.folder(b"b", &seen_folder(inside)).expect("written");
        let id = FolderId { volume: 0, file: 1 };
        let folder = SeenFolder { stamp: seen_folder(inside).stamp, parent: id, name: b"b".to_vec(), look_again: false };
        writer.folder_seen(&folder).expect("written");
        writer.leaf(b"c", &seen(3)).expect("written");
        writer.leave(&[ChunkName([7; 32])], Counts::default()).expect("written");
        kept(writer, directory)
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
            needed_xor: [1 ^ 2; 32],
            bytes: 21,
            files: 3,
            exceptions: 0,
            needs: None,
            changes: None,
        }
    }

    #[test]
    fn a_walk_in_step_finds_what_it_knows() {
        let directory = tempfile::tempdir().expect("a directory");
        let cache = written(directory.path());
        assert_eq!((cache.sequence(), cache.size(), cache.needs.len()), (4, (3, 21), 2));
        let mut walk = cache.walk(false).expect("opened");
        assert_eq!(walk.leaf(b"a").expect("read").expect("known").stamp.inode, 1);
        assert!(walk.leaf(b"aa").expect("read").is_none());
        let inside = walk.folder(b"b").expect("read").expect("known").inside.expect("it was gone into");
        walk.enter(&inside).expect("read");
        assert!(walk.leaf(b"in").expect("read").is_none());
        let inner = walk.leaf(b"inner").expect("read").expect("known");
        assert_eq!((inner.entry, inner.extents), (vec![2; 3], seen(2).extents));
        assert!(walk.leave().expect("read"), "all of it was asked for");
        assert_eq!(walk.leaf(b"c").expect("read").expect("known").names, [ChunkName([3; 32])]);
    }

    #[test]
    fn what_is_gone_is_passed_over_with_all_below_it_and_its_chunks_are_told() {
        let directory = tempfile::tempdir().expect("a directory");
        let cache = written(directory.path());
        let mut walk = cache.walk(true).expect("opened");
        assert!(walk.leaf(b"c").expect("read").is_some());
        assert!(walk.folder(b"z").expect("read").is_none());
        assert!(!walk.leave().expect("read"), "names were passed");
        let mut passed: Vec<u8> = walk.passed().0.iter().map(|name| name.0[0]).collect();
        passed.sort_unstable();
        assert_eq!(passed, [1, 2, 3, 7, 8]);
    }

    #[test]
    fn what_is_taken_over_is_not_told_and_is_there_for_the_next_walk() {
        let directory = tempfile::tempdir().expect("a directory");
        let cache = written(directory.path());
        let mut walk = cache.walk(true).expect("opened");
        let mut writer = ChangeCacheWriter::go_on(&cache, 5).expect("begun");
        writer.enter();
        let folder = walk.folder(b"b").expect("read").expect("known");
        writer.folder(b"b", &folder).expect("written");
        let counts = Counts { files: 1, ..Counts::default() };
        writer.leave(&[], counts).expect("written");
        assert!(!walk.leave().expect("read"));
        let mut passed: Vec<u8> = walk.passed().0.iter().map(|name| name.0[0]).collect();
        passed.sort_unstable();
        assert_eq!(passed, [1, 3, 7]);
        let next = kept(writer, directory.path());
        let mut walk = next.walk(false).expect("opened");
        let inside = walk.folder(b"b").expect("read").expect("known").inside.expect("gone into");
        assert_eq!(inside.counts, counts);
        walk.enter(&inside).expect("read");
        assert_eq!(walk.leaf(b"inner").expect("read").expect("known").stamp.inode, 2);
        assert!(next.folders().is_some());
    }

    #[test]
    fn a_folder_of_many_pages_is_read_as_it_was_written() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut writer = ChangeCacheWriter::begin(directory.path(), 4).expect("begun");
        let name = |n: u32| format!("file {n:08}").into_bytes();
        writer.enter();
        (0..5_000).for_each(|n| writer.leaf(&name(n), &seen(3)).expect("written"));
        writer.leave(&[], Counts::default()).expect("written");
        let mut walk = kept(writer, directory.path()).walk(false).expect("opened");
        assert!((0..5_000).step_by(7).all(|n| walk.leaf(&name(n)).expect("read").is_some()));
    }

    #[test]
    fn a_file_that_became_a_folder_is_not_known() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut walk = written(directory.path()).walk(false).expect("opened");
        assert!(walk.folder(b"a").expect("read").is_none());
        assert!(walk.leaf(b"b").expect("read").is_none());
        assert!(walk.leaf(b"c").expect("read").is_some());
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
        let whole = read_through(directory.path()).expect("sound");
        let mut writer = ChangeCacheWriter::begin(directory.path(), 5).expect("begun");
        writer.enter();
        writer.leaf(b"a", &seen(9)).expect("written");
        drop(writer);
        let cache = ChangeCache::open(directory.path(), "store", &point()).expect("there");
        let mut writer = ChangeCacheWriter::go_on(&cache, 5).expect("begun");
        writer.enter();
        (0..9_000_u32).for_each(|n| writer.leaf(&n.to_be_bytes(), &seen(9)).expect("written"));
        drop(writer);
        assert_eq!(read_through(directory.path()), Some(whole));
    }

    /// Everything that is in the cache, as a walk would find it, up to what is damaged; `None` when there is none.
    fn read_through(directory: &Path) -> Option<Vec<String>> {
        let cache = ChangeCache::open(directory, "store", &point())?;
        let mut found = vec![format!("{:?} {:?}", cache.needs, cache.size())];
        let mut walk = cache.walk(false).ok()?;
        for name in [&b"a"[..], b"b", b"c"] {
            if name != b"b" {
                found.push(format!("{:?}", walk.leaf(name).ok()??));
                continue;
            }
            let folder = walk.folder(name).ok()??;
            found.push(format!("{folder:?}"));
            walk.enter(&folder.inside?).ok()?;
            found.push(format!("{:?}", walk.leaf(b"inner").ok()??));
            walk.leave().ok()?;
        }
        cache.folders()?;
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
            // What is behind the end that the description knows is not read.
            assert!(read.is_none() || read.as_ref() == Some(&whole), "trial {trial} in {}", path.display());
            fs::write(path, sound).expect("mended");
        }
        assert_eq!(read_through(directory.path()), Some(whole));
    }

    /// The disk gives other bytes than were written, in a part that nobody has read since.
    #[test]
    fn a_block_that_changes_under_the_walk_is_noticed() {
        let directory = tempfile::tempdir().expect("a directory");
        let cache = written(directory.path());
        let path = walk_file(directory.path(), 4);
        let mut bytes = fs::read(&path).expect("read");
        bytes[20] ^= 1;
        fs::write(&path, bytes).expect("altered");
        let mut walk = cache.walk(false).expect("the outermost folder is sound");
        let inside = walk.folder(b"b").expect("so is its page").expect("known").inside.expect("gone into");
        let entered = walk.enter(&inside).and_then(|()| walk.leaf(b"inner"));
        assert!(entered.is_err());
    }
}
