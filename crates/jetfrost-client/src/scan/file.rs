//! Reading a file's content, with its holes.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::fd::OwnedFd;

use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{EntryKind, Part};
use jetfrost_image::tree::{ChunkSink, Chunker, store_content};
use nix::errno::Errno;
use nix::sys::stat::{FileStat, fstat};
use nix::unistd::{Whence, lseek64};

use super::attributes::{Attributes, attributes_of};
use super::directory::open_file;
use super::facts::{Stamp, kind};
use crate::error::ClientError;

/// A file that keeps changing is read so often.
const ATTEMPTS: usize = 3;

/// What came of reading a file.
pub(super) struct FileRead {
    pub(super) parts: Vec<Part>,
    /// As it was when it was read last.
    pub(super) stat: FileStat,
    /// Whether it changed even while it was read last.
    pub(super) unsettled: bool,
    /// Its extended attributes, as they were then.
    pub(super) attributes: io::Result<Attributes>,
}

/// Why a file could not be read.
pub(super) enum ReadFailure {
    /// The file, for what the system said: an exception of the run.
    File(Errno),
    /// Something else than a file has its name by now.
    Replaced,
    /// The run itself.
    Run(ClientError),
}

impl From<ClientError> for ReadFailure {
    fn from(error: ClientError) -> Self {
        Self::Run(error)
    }
}

impl From<Errno> for ReadFailure {
    fn from(error: Errno) -> Self {
        Self::File(error)
    }
}

/// Reads a file until it has not changed meanwhile, a few times at most.
pub(super) fn read_file<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    parent: &OwnedFd,
    name: &[u8],
) -> Result<FileRead, ReadFailure> {
    let mut attempt = 1;
    loop {
        let mut file = open_file(parent, name)?;
        let before = fstat(&file)?;
        if kind(&before) != Some(EntryKind::File) {
            // Whatever is there now is not what was seen at this name, and nothing that can be read as a file.
            return Err(ReadFailure::Replaced);
        }
        let parts = read_parts(keys, chunker, sink, &mut file, &before)?;
        let attributes = attributes_of(&file);
        let stat = fstat(&file)?;
        let read: u64 = parts.iter().map(|p| p.len).sum();
        let settled = Stamp::of(&before) == Stamp::of(&stat) && read == stat.st_size.cast_unsigned();
        if settled || attempt == ATTEMPTS {
            return Ok(FileRead { parts, stat, unsettled: !settled, attributes });
        }
        attempt += 1;
    }
}

fn read_parts<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    file: &mut File,
    stat: &FileStat,
) -> Result<Vec<Part>, ReadFailure> {
    let size = stat.st_size.cast_unsigned();
    let is_sparse = stat.st_blocks.cast_unsigned().saturating_mul(512) < size;
    let stretches = if is_sparse { stretches(file, size)? } else { vec![Stretch::Data(0, size)] };
    let mut parts = Vec::new();
    for stretch in stretches {
        match stretch {
            Stretch::Hole(len) => parts.push(Part { len, name: None }),
            // A file that is not sparse is read to its end, wherever that is by then.
            Stretch::Data(..) if !is_sparse => parts.extend(store(keys, chunker, sink, &mut *file)?),
            Stretch::Data(from, to) => {
                file.seek(SeekFrom::Start(from)).map_err(|e| errno(&e))?;
                parts.extend(store(keys, chunker, sink, (&mut *file).take(to - from))?);
            }
        }
    }
    Ok(parts)
}

/// Marks failures of the file apart from failures of the sink.
struct Noting<R> {
    inner: R,
    failure: Option<Errno>,
}

impl<R: Read> Read for &mut Noting<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let noted = &mut self.failure;
        self.inner.read(buf).inspect_err(|e| {
            if e.kind() != io::ErrorKind::Interrupted {
                *noted = Some(Errno::from_raw(e.raw_os_error().unwrap_or(Errno::EIO as i32)));
            }
        })
    }
}

fn store<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    from: impl Read,
) -> Result<Vec<Part>, ReadFailure> {
    let mut noting = Noting { inner: from, failure: None };
    let stored = store_content(keys, chunker, sink, &mut noting);
    match noting.failure {
        Some(errno) => Err(ReadFailure::File(errno)),
        None => Ok(stored?),
    }
}

/// A part of a file.
pub(super) enum Stretch {
    /// From, to.
    Data(u64, u64),
    /// Bytes.
    Hole(u64),
}

/// Where a sparse file has data, as lseek(2) tells.
pub(super) fn stretches(file: &File, size: u64) -> Result<Vec<Stretch>, Errno> {
    let mut stretches = Vec::new();
    let mut at = 0;
    while at < size {
        let data = match lseek64(file, at.cast_signed(), Whence::SeekData) {
            Ok(data) => data.cast_unsigned().min(size),
            Err(Errno::ENXIO) => size,
            // A block device knows of no holes.
            Err(Errno::EINVAL) => at,
            Err(e) => return Err(e),
        };
        if data > at {
            stretches.push(Stretch::Hole(data - at));
        }
        if data < size {
            let hole = match lseek64(file, data.cast_signed(), Whence::SeekHole) {
                Ok(hole) => hole.cast_unsigned().min(size),
                Err(Errno::EINVAL) => size,
                Err(e) => return Err(e),
            };
            stretches.push(Stretch::Data(data, hole));
            at = hole;
        } else {
            at = size;
        }
    }
    Ok(stretches)
}

fn errno(error: &io::Error) -> ReadFailure {
    ReadFailure::File(Errno::from_raw(error.raw_os_error().unwrap_or(Errno::EIO as i32)))
}
