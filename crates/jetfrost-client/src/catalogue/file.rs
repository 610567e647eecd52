//! Where a catalogue lies: a log of sealed pieces that only grows, and a head that says which pieces count. The head gets its name when
//! the pieces are durable, so that whatever happens there is the catalogue of before or the new one.
//!
//! Every piece is sealed as chunks of the image store are: names of files are not readable without the store key, and what a disk
//! altered is not taken for what was written. Anything wrong means that there is no catalogue, and it is made once more.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Effort, Opener, Sealer, StoreKeys};
use jetfrost_image::format::MAX_CHUNK;
use jetfrost_image::medium::replace_file;
use jetfrost_platform::{FileContent, NewDirectory, Opening};
use minicbor::{Decode, Encode};

use crate::system_random;

/// Another number means another layout, and the catalogue is made once more.
const LAYOUT: u32 = 1;
const HEAD: &str = "head";
const LOCK: &str = "lock";
const LOG: &str = "names-";
/// Longer than a sealed piece can be.
const MOST_SEALED: usize = MAX_CHUNK + (4 << 10);

/// A sealed piece of the log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub(super) struct Piece {
    #[n(0)]
    at: u64,
    #[n(1)]
    len: u32,
    #[n(2)]
    name: ChunkName,
}

/// Names, and what is known of each.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub(super) struct Block {
    #[n(0)]
    pub(super) len: u32,
    #[n(1)]
    pub(super) names: Piece,
    #[n(2)]
    pub(super) facts: Piece,
}

/// A point that is in the catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub(super) struct CataloguedPoint {
    #[n(0)]
    pub(super) sequence: u64,
    #[cbor(n(1), with = "minicbor::bytes")]
    pub(super) id: [u8; 16],
    /// Folders whose listing could not be read: what they had before is taken to be still there.
    #[n(2)]
    pub(super) unread: u32,
}

/// Which pieces count.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub(super) struct Head {
    #[n(0)]
    layout: u32,
    /// The number of the log.
    #[n(1)]
    log: u64,
    /// Where it ends.
    #[n(2)]
    end: u64,
    /// Ascending.
    #[n(3)]
    pub(super) points: Vec<CataloguedPoint>,
    /// The version of the root in the last of them.
    #[n(4)]
    pub(super) root: u64,
    #[n(5)]
    pub(super) blocks: Vec<Block>,
    #[n(6)]
    pub(super) folders: Vec<Piece>,
    /// Names when the log was begun.
    #[n(7)]
    pub(super) names_at_first: u64,
    /// Points that could not be read at all.
    #[n(8)]
    pub(super) unreadable: Vec<u64>,
}

impl Head {
    /// How many names are in the blocks.
    pub(super) fn names(&self) -> u64 {
        self.blocks.iter().map(|block| u64::from(block.len)).sum()
    }
}

/// A catalogue's files, open.
pub(super) struct CatalogueFile {
    directory: PathBuf,
    keys: StoreKeys,
    pub(super) head: Head,
    log: File,
}

/// Held while a catalogue is written.
pub(super) struct Lock(#[expect(dead_code, reason = "closing it ends the lock")] File);

/// Waits until nobody else writes the catalogue in a directory, which is made if it is not there.
pub(super) fn lock(directory: &Path) -> io::Result<Lock> {
    fs::DirBuilder::new().recursive(true).private().create(directory)?;
    let file = OpenOptions::new().write(true).create(true).truncate(false).no_link().private().open(directory.join(LOCK))?;
    file.lock()?;
    Ok(Lock(file))
}

impl CatalogueFile {
    /// The catalogue that is there, if it can be read.
    pub(super) fn open(directory: &Path, keys: &StoreKeys) -> Option<Self> {
        let mut sealed = fs::read(directory.join(HEAD)).ok().filter(|bytes| bytes.len() <= MOST_SEALED)?;
        let (name, sealed) = sealed.split_first_chunk_mut()?;
        let mut opener = Opener::new(keys.clone());
        let head: Head = minicbor::decode(opener.open(&ChunkName(*name), sealed).ok()?).ok()?;
        if head.layout != LAYOUT {
            return None;
        }
        let log = OpenOptions::new().read(true).write(true).no_link().open(log_file(directory, head.log)).ok()?;
        let is_whole = log.metadata().ok()?.len() >= head.end;
        is_whole.then(|| Self { directory: directory.into(), keys: keys.clone(), head, log })
    }

    /// An empty one, which takes the place of what is there once it is kept.
    pub(super) fn begin(directory: &Path, keys: &StoreKeys) -> io::Result<Self> {
        let log = logs(directory).map(|(number, _)| number).max().unwrap_or(0) + 1;
        let (points, blocks, folders, unreadable) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let head = Head { layout: LAYOUT, log, end: 0, points, root: 0, blocks, folders, names_at_first: 0, unreadable };
        let mut options = OpenOptions::new();
        let log = options.read(true).write(true).create_new(true).private().open(log_file(directory, log))?;
        Ok(Self { directory: directory.into(), keys: keys.clone(), head, log })
    }

    /// An empty one beside this one.
    pub(super) fn begin_anew(&self) -> io::Result<Self> {
        Self::begin(&self.directory, &self.keys)
    }

    pub(super) fn opener(&self) -> Opener {
        Opener::new(self.keys.clone())
    }

    /// What is in a piece; none when it is not what was written.
    pub(super) fn read(&self, piece: &Piece, opener: &mut Opener) -> Option<Vec<u8>> {
        let mut sealed = vec![0; (piece.len as usize).min(MOST_SEALED)];
        self.log.read_all_at(&mut sealed, piece.at).ok()?;
        opener.open(&piece.name, &mut sealed).ok().map(<[u8]>::to_vec)
    }

    /// Adds a piece, which counts once the head refers to it and is kept.
    pub(super) fn add(&mut self, content: &[u8]) -> io::Result<Piece> {
        let (name, sealed) = self.sealed(content)?;
        self.log.write_at_offset(&sealed, self.head.end)?;
        let len = u32::try_from(sealed.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        let piece = Piece { at: self.head.end, len, name };
        self.head.end += u64::from(len);
        Ok(piece)
    }

    /// Makes all of it durable, and this the catalogue that there is.
    pub(super) fn keep(&self) -> io::Result<()> {
        self.log.sync_all()?;
        let head = minicbor::to_vec(&self.head).map_err(io::Error::other)?;
        let (name, sealed) = self.sealed(&head)?;
        replace_file(&self.directory.join(HEAD), OpenOptions::new().private(), |file| {
            file.write_all(name.as_bytes())?;
            file.write_all(&sealed)
        })?;
        for (_, path) in logs(&self.directory).filter(|(number, _)| *number != self.head.log) {
            fs::remove_file(path)?;
        }
        Ok(())
    }

    /// The last point that was taken in or passed over.
    pub(super) fn last(&self) -> u64 {
        let points = self.head.points.iter().map(|point| point.sequence);
        points.chain(self.head.unreadable.iter().copied()).max().unwrap_or(0)
    }

    /// How many bytes of the disk it takes, without its head.
    pub(super) fn len(&self) -> u64 {
        self.head.end
    }

    fn sealed(&self, content: &[u8]) -> io::Result<(ChunkName, Vec<u8>)> {
        if content.is_empty() || content.len() > MAX_CHUNK {
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        let (name, mut sealed) = (self.keys.name(content), Vec::new());
        Sealer::new(self.keys.clone(), Effort::Thorough).seal(&name, content, &system_random(), &mut sealed);
        Ok((name, sealed))
    }
}

fn log_file(directory: &Path, number: u64) -> PathBuf {
    directory.join(format!("{LOG}{number}"))
}

/// The logs that are there, with their numbers.
fn logs(directory: &Path) -> impl Iterator<Item = (u64, PathBuf)> {
    let number = |entry: fs::DirEntry| Some((entry.file_name().to_str()?.strip_prefix(LOG)?.parse().ok()?, entry.path()));
    fs::read_dir(directory).into_iter().flatten().flatten().filter_map(number)
}

#[cfg(test)]
mod tests {
    use jetfrost_image::StoreId;
    use jetfrost_image::crypto::StoreKey;

    use super::*;

    fn keys(key: u8) -> StoreKeys {
        StoreKeys::derive(StoreId([1; 16]), &StoreKey([key; 32]))
    }

    #[test]
    fn what_is_not_kept_changes_nothing_and_what_is_takes_the_place_of_the_one_before() {
        let directory = tempfile::tempdir().expect("a directory");
        let (at, keys) = (directory.path(), keys(1));
        let _lock = lock(at).expect("nobody has it");
        assert!(CatalogueFile::open(at, &keys).is_none());
        let mut first = CatalogueFile::begin(at, &keys).expect("begun");
        let piece = first.add(b"names").expect("added");
        first.head.folders.push(piece);
        first.keep().expect("kept");
        first.add(b"never kept").expect("added");
        let mut second = first.begin_anew().expect("begun");
        second.add(b"others").expect("added");
        let again = CatalogueFile::open(at, &keys).expect("there");
        assert_eq!((again.len(), &again.head.folders[..]), (u64::from(piece.len), &[piece][..]));
        assert_eq!(again.read(&piece, &mut again.opener()).as_deref(), Some(&b"names"[..]));
        second.keep().expect("kept");
        assert!(CatalogueFile::open(at, &keys).expect("there").head.folders.is_empty());
        assert_eq!(logs(at).count(), 1);
    }

    /// Another store's catalogue, a later program's, and one of which a disk lost or altered something.
    #[test]
    fn what_is_not_as_it_was_written_is_none() {
        let directory = tempfile::tempdir().expect("a directory");
        let (at, keys) = (directory.path(), keys(1));
        let mut file = CatalogueFile::begin(at, &keys).expect("begun");
        let piece = file.add(b"names").expect("added");
        file.keep().expect("kept");
        assert!(CatalogueFile::open(at, &self::keys(2)).is_none());
        let log = log_file(at, file.head.log);
        let whole = fs::read(&log).expect("read");
        for bit in 0..whole.len() * 8 {
            let mut altered = whole.clone();
            altered[bit / 8] ^= 1 << (bit % 8);
            fs::write(&log, altered).expect("written");
            assert_eq!(file.read(&piece, &mut file.opener()), None, "{bit}");
        }
        fs::write(&log, &whole[1..]).expect("written");
        assert!(CatalogueFile::open(at, &keys).is_none());
        fs::write(&log, &whole).expect("written");
        let head = fs::read(at.join(HEAD)).expect("read");
        for byte in 0..head.len() {
            let mut altered = head.clone();
            altered[byte] ^= 0x10;
            fs::write(at.join(HEAD), altered).expect("written");
            assert!(CatalogueFile::open(at, &keys).is_none(), "{byte}");
        }
        file.head.layout += 1;
        file.keep().expect("kept");
        assert!(CatalogueFile::open(at, &keys).is_none());
    }

    #[test]
    fn names_are_not_readable_without_the_key() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut file = CatalogueFile::begin(directory.path(), &keys(1)).expect("begun");
        let name = b"a letter to Aud about the merger, which nobody may know of";
        file.add(name).expect("added");
        file.keep().expect("kept");
        for (_, log) in logs(directory.path()) {
            assert!(!fs::read(log).expect("read").windows(12).any(|part| name.windows(12).any(|n| n == part)));
        }
    }
}
