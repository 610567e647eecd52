//! Telling contents apart, and whether a file holds what a point says it held, by the names of chunks.

use std::fs::File;
use std::io::{self, Read};

use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Content, MAX_CHUNK, Part};
use jetfrost_image::tree::{ChunkSource, expand_parts};
use minicbor::Encode;

use crate::error::ClientError;

/// A number that tells states apart, such as contents: of 2^32 ones, two may have the same. That of a content follows from the keyed names of its
/// chunks, and says nothing of what is in them.
pub(crate) fn number_of(state: impl Encode<()>) -> u64 {
    let bytes = minicbor::to_vec(state).expect("a vector takes all");
    u64::from_le_bytes(*blake3::hash(&bytes).as_bytes().first_chunk().expect("it has 32"))
}

/// Whether what is left of a file is this content, or why it cannot be read. Nothing is fetched but the lists of a large content's parts.
///
/// # Errors
/// When those are damaged or cannot be had.
pub(crate) fn is_content(
    keys: &StoreKeys,
    source: &impl ChunkSource<Error = ClientError>,
    file: &mut File,
    content: &Content,
) -> Result<io::Result<bool>, ClientError> {
    let (mut buffer, mut is_same) = (Vec::new(), Ok(true));
    expand_parts(source, content, &mut |part| {
        if matches!(is_same, Ok(true)) {
            is_same = is_part(keys, file, part, &mut buffer);
        }
        Ok(())
    })?;
    Ok(is_same.and_then(|is_same| Ok(is_same && file.read(&mut [0])? == 0)))
}

/// Whether the next bytes of a file are a part of content.
fn is_part(keys: &StoreKeys, file: &mut File, part: Part, buffer: &mut Vec<u8>) -> io::Result<bool> {
    let mut left = part.len;
    loop {
        let now = usize::try_from(left.min(MAX_CHUNK as u64)).expect("a mebibyte at most");
        buffer.resize(now, 0);
        match file.read_exact(buffer) {
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            other => other?,
        }
        left -= now as u64;
        let is_right = match part.name {
            // A chunk is a mebibyte at most, so this is all of it.
            Some(name) => left == 0 && keys.name(buffer) == name,
            None => buffer.iter().all(|byte| *byte == 0),
        };
        if !is_right || left == 0 {
            return Ok(is_right);
        }
    }
}
