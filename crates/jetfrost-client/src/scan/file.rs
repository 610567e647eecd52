//! Reading a file's content, with its holes.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::Part;
use jetfrost_image::tree::{ChunkSink, Chunker, store_content};
use jetfrost_platform::{Directory, FileContent, FileKind, Metadata, OpenDirectory, Stretch};

use super::attributes::{Attributes, attributes_of};
use super::facts::Stamp;
use crate::error::ClientError;

/// A file that keeps changing is read so often.
const ATTEMPTS: usize = 3;

/// What came of reading a file.
pub(super) struct FileRead {
    pub(super) parts: Vec<Part>,
    /// As it was when it was read last.
    pub(super) metadata: Metadata,
    /// Whether it changed even while it was read last.
    pub(super) unsettled: bool,
    /// Its extended attributes, as they were then.
    pub(super) attributes: io::Result<Attributes>,
}

/// Why a file could not be read.
pub(super) enum ReadFailure {
    /// The file, for what the system said: an exception of the run.
    File(io::Error),
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

impl From<io::Error> for ReadFailure {
    fn from(error: io::Error) -> Self {
        Self::File(error)
    }
}

/// Reads a file until it has not changed meanwhile, a few times at most.
pub(super) fn read_file<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    parent: &Directory,
    name: &[u8],
) -> Result<FileRead, ReadFailure> {
    let mut attempt = 1;
    loop {
        let mut file = parent.open_file(name)?;
        let before = file.metadata_now()?;
        if before.kind != Some(FileKind::File) {
            // Whatever is there now is not what was seen at this name, and nothing that can be read as a file.
            return Err(ReadFailure::Replaced);
        }
        let parts = read_parts(keys, chunker, sink, &mut file, &before)?;
        let attributes = attributes_of(&file);
        let metadata = file.metadata_now()?;
        let read: u64 = parts.iter().map(|p| p.len).sum();
        let settled = Stamp::of(&before) == Stamp::of(&metadata) && read == metadata.size;
        if settled || attempt == ATTEMPTS {
            return Ok(FileRead { parts, metadata, unsettled: !settled, attributes });
        }
        attempt += 1;
    }
}

fn read_parts<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    file: &mut File,
    metadata: &Metadata,
) -> Result<Vec<Part>, ReadFailure> {
    let is_sparse = metadata.allocated < metadata.size;
    let stretches = if is_sparse { file.stretches(metadata.size)? } else { vec![Stretch::Data(0..metadata.size)] };
    let mut parts = Vec::new();
    for stretch in stretches {
        match stretch {
            Stretch::Hole(hole) => parts.push(Part { len: hole.end - hole.start, name: None }),
            // A file that is not sparse is read to its end, wherever that is by then.
            Stretch::Data(..) if !is_sparse => parts.extend(store(keys, chunker, sink, &mut *file)?),
            Stretch::Data(data) => {
                file.seek(SeekFrom::Start(data.start))?;
                parts.extend(store(keys, chunker, sink, (&mut *file).take(data.end - data.start))?);
            }
        }
    }
    Ok(parts)
}

/// Marks failures of the file apart from failures of the sink.
struct Noting<R> {
    inner: R,
    failure: Option<io::Error>,
}

impl<R: Read> Read for &mut Noting<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let noted = &mut self.failure;
        self.inner.read(buf).inspect_err(|e| {
            if e.kind() != io::ErrorKind::Interrupted {
                *noted = Some(copy_of(e));
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
        Some(error) => Err(ReadFailure::File(error)),
        None => Ok(stored?),
    }
}

/// One for the reader, and one for us.
fn copy_of(error: &io::Error) -> io::Error {
    error.raw_os_error().map_or_else(|| error.kind().into(), io::Error::from_raw_os_error)
}
