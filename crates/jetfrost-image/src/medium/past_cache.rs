//! Writing large files past the system's page cache: what a backup or a restore brings is not read again soon, so a copy of it
//! in memory costs time, and drives out what others on the host have use for.

use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::sync::{Mutex, MutexGuard, PoisonError};

use nix::fcntl::{FcntlArg, OFlag, fcntl};

use super::WritableFile;

/// Bytes written at once.
const BLOCK: usize = 256 << 10;
/// A file that is written from its beginning, or from a place in it. Whole blocks go past the cache where the file system can
/// do that; what is before the first and after the last goes through it, like the whole of what is shorter than a block.
///
/// The file must be open for this alone, since how it is open changes. Others may write elsewhere in the same file, also next to
/// it.
pub struct PastCache {
    file: File,
    /// Where in the file what is gathered begins.
    written: u64,
    /// What is not written yet, behind what is skipped so that it begins at an aligned address.
    gathered: Vec<u8>,
    skipped: usize,
    way: Way,
}

/// How blocks are written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Way {
    /// No block has come together yet.
    Open,
    Past,
    Through,
}

/// Memory that is used again: hundreds of uploads, each with its own, would leave holes in it that nothing else fits into.
static IDLE: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());
/// What is kept of it.
const MOST_IDLE: usize = 32;

fn idle() -> MutexGuard<'static, Vec<Vec<u8>>> {
    IDLE.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Drop for PastCache {
    fn drop(&mut self) {
        let mut idle = idle();
        if idle.len() < MOST_IDLE {
            let mut memory = std::mem::take(&mut self.gathered);
            memory.clear();
            idle.push(memory);
        }
    }
}

impl PastCache {
    /// What the address, the place and the length of a write past the cache are multiples of, in bytes. Hardly a disk has longer
    /// sectors. Where the system's pages are longer, nobody else may write next to it at the same time: what is written past a
    /// page and what is written into it would meet in one.
    pub const ALIGNED: usize = 4096;

    /// Takes a file that is open for writing, and where writing begins.
    #[must_use]
    pub fn at(file: File, offset: u64) -> Self {
        let mut gathered = idle().pop().unwrap_or_else(|| Vec::with_capacity(BLOCK + Self::ALIGNED));
        let skipped = gathered.as_ptr().align_offset(Self::ALIGNED).min(Self::ALIGNED);
        gathered.resize(skipped, 0);
        Self { file, written: offset, gathered, skipped, way: Way::Open }
    }

    /// How much is gathered before it is written: a block, or what is missing to a place where one may begin.
    fn block(&self) -> usize {
        match usize::try_from(self.written % Self::ALIGNED as u64).expect("less than it is divided by") {
            0 => BLOCK,
            behind => Self::ALIGNED - behind,
        }
    }

    fn room(&self) -> usize {
        self.block() - (self.gathered.len() - self.skipped)
    }

    fn write_block(&mut self) -> io::Result<()> {
        if self.block() < BLOCK {
            return self.write_gathered();
        }
        if self.way == Way::Open {
            self.way = if self.set(OFlag::O_DIRECT).is_ok() { Way::Past } else { Way::Through };
        }
        match self.write_gathered() {
            // The file system took the flag and not the write: longer sectors, or a layer between.
            Err(e) if self.way == Way::Past && e.kind() == io::ErrorKind::InvalidInput => self.write_rest(),
            written => written,
        }
    }

    /// Writes what is gathered through the cache; what follows takes the same way, for its place is not aligned.
    fn write_rest(&mut self) -> io::Result<()> {
        if self.way == Way::Past {
            self.set(OFlag::empty())?;
        }
        self.way = Way::Through;
        self.write_gathered()
    }

    fn write_gathered(&mut self) -> io::Result<()> {
        let bytes = &self.gathered[self.skipped..];
        self.file.write_all_at(bytes, self.written)?;
        self.written += bytes.len() as u64;
        self.gathered.truncate(self.skipped);
        Ok(())
    }

    fn set(&self, flags: OFlag) -> io::Result<()> {
        fcntl(&self.file, FcntlArg::F_SETFL(flags))?;
        Ok(())
    }
}

impl Write for PastCache {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let taken = bytes.len().min(self.room());
        self.gathered.extend_from_slice(&bytes[..taken]);
        if self.room() == 0 {
            self.write_block()?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.write_rest()
    }
}

impl WritableFile for PastCache {
    fn sync(&mut self) -> io::Result<()> {
        self.write_rest()?;
        self.file.sync_data()
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;

    use super::*;

    const ALIGNED: usize = PastCache::ALIGNED;
    use crate::crypto::{Random, SeededRandom};

    /// Where temporary files lie, and a file system in memory: not each can write past the cache.
    const PLACES: [&str; 2] = [".", "/dev/shm"];

    fn write_in(place: &Path, pieces: &[usize], flushed_after: usize) -> (Vec<u8>, Vec<u8>) {
        write_from(0, place, pieces, flushed_after)
    }

    fn write_from(offset: usize, place: &Path, pieces: &[usize], flushed_after: usize) -> (Vec<u8>, Vec<u8>) {
        let mut content = vec![0; pieces.iter().sum()];
        SeededRandom::new(b"past the cache").fill(&mut content);
        let file = tempfile::NamedTempFile::new_in(place).expect("a file");
        let mut writing = PastCache::at(file.reopen().expect("reopened"), offset as u64);
        let mut rest = &content[..];
        for (n, piece) in pieces.iter().enumerate() {
            let (now, later) = rest.split_at(*piece);
            writing.write_all(now).expect("written");
            if n == flushed_after {
                writing.flush().expect("flushed");
            }
            rest = later;
        }
        writing.sync().expect("synced");
        let mut found = fs::read(file.path()).expect("read");
        assert!(found.iter().take(offset).all(|byte| *byte == 0), "nothing is written before the place");
        (found.split_off(offset.min(found.len())), content)
    }

    #[test]
    fn what_is_written_in_pieces_of_any_length_is_there_as_it_was_given() {
        let (block, odd) = (BLOCK, 3 * ALIGNED + 17);
        let cases: [&[usize]; 7] =
            [&[], &[0, 5], &[block - 1, 1], &[block, 1], &[2 * block + 1], &[odd; 60], &[odd, 3 * block, ALIGNED, 1]];
        for place in PLACES.map(Path::new).into_iter().filter(|place| place.is_dir()) {
            for pieces in cases {
                let (found, given) = write_in(place, pieces, usize::MAX);
                assert!(found == given, "{} in {pieces:?}", place.display());
            }
        }
    }

    #[test]
    fn writing_can_begin_anywhere_and_be_next_to_what_another_writes() {
        for place in PLACES.map(Path::new).into_iter().filter(|place| place.is_dir()) {
            for offset in [1, ALIGNED - 1, ALIGNED, BLOCK + 5] {
                for pieces in [&[BLOCK / 3; 7][..], &[1], &[ALIGNED, 2 * BLOCK]] {
                    let (found, given) = write_from(offset, place, pieces, usize::MAX);
                    assert!(found == given, "{} from {offset} in {pieces:?}", place.display());
                }
            }
            let file = tempfile::NamedTempFile::new_in(place).expect("a file");
            // The border lies within a page, and what is behind it is written first.
            let (border, all) = (BLOCK + 100, 2 * BLOCK + 300);
            let mut content = vec![0; all];
            SeededRandom::new(b"next to each other").fill(&mut content);
            for part in [border..all, 0..border] {
                let mut writing = PastCache::at(file.reopen().expect("reopened"), part.start as u64);
                writing.write_all(&content[part]).expect("written");
                writing.flush().expect("flushed");
            }
            assert!(fs::read(file.path()).expect("read") == content, "{}", place.display());
        }
    }

    #[test]
    fn after_a_flush_in_the_middle_the_rest_follows() {
        for flushed_after in 0..3 {
            let (found, given) = write_in(Path::new("."), &[BLOCK + 5, 2 * BLOCK, BLOCK + 7], flushed_after);
            assert!(found == given, "flushed after piece {flushed_after}");
        }
    }
}
