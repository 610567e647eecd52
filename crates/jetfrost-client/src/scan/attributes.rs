//! Extended attributes: small values go into the entry, large ones are content of their own. What is not kept is said by name.

use std::io;

use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Content, Entry, LargeAttribute, MAX_ENTRY};
use jetfrost_image::tree::{ChunkSink, Chunker, store_content};
use jetfrost_platform::ExtendedAttributes;

use crate::error::ClientError;

/// A value that is longer is content of its own.
const SMALL: usize = 1024;
/// Small values are in the entry up to this many bytes; beyond they are content of their own.
const MOST_INLINE: usize = 64 << 10;
/// Bytes of values that are kept of one name: a restore brings them back at once.
pub(crate) const MOST_VALUES: usize = 16 << 20;
/// What attributes may take of an entry. The rest is for its name, its content and a link's target.
const MOST_OF_ENTRY: usize = MAX_ENTRY - (64 << 10);
/// What an attribute takes in an entry beside name and value or reference, and what a part of a reference takes, at most.
const FRAME: usize = 24;
const PART: usize = 48;

/// What was read.
#[derive(Debug, Default)]
pub(super) struct Attributes {
    /// Names and values, ascending by name.
    found: Vec<(Vec<u8>, Vec<u8>)>,
    /// Those that were not read, since together they are too long.
    left_out: usize,
}

/// The extended attributes of something.
pub(super) fn attributes_of(something: &impl ExtendedAttributes) -> io::Result<Attributes> {
    let (mut attributes, mut bytes) = (Attributes::default(), 0);
    for name in something.attribute_names()? {
        // One that was removed in between is not there.
        let Some(value) = something.attribute(&name)? else { continue };
        bytes += value.len();
        if bytes > MOST_VALUES {
            bytes -= value.len();
            attributes.left_out += 1;
        } else {
            attributes.found.push((name, value));
        }
    }
    attributes.found.sort_unstable();
    Ok(attributes)
}

/// Puts attributes into an entry, and the large ones into the sink. Returns how many there was no room for.
pub(super) fn keep<S: ChunkSink<Error = ClientError>>(
    attributes: Attributes,
    entry: &mut Entry,
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
) -> Result<usize, ClientError> {
    let (mut small, mut large) = (Vec::new(), Vec::new());
    let (mut inline, mut taken, mut left_out) = (0, 0, attributes.left_out);
    for (name, value) in attributes.found {
        let len = name.len() + value.len() + FRAME;
        if value.len() <= SMALL && inline + len <= MOST_INLINE {
            inline += len;
            taken += len;
            small.push((name.into(), value.into()));
            continue;
        }
        let value = stored(keys, chunker, sink, &value)?;
        let len = name.len() + value.parts.len() * PART + FRAME;
        if taken + len > MOST_OF_ENTRY {
            left_out += 1;
        } else {
            taken += len;
            large.push(LargeAttribute { name: name.into(), value });
        }
    }
    entry.xattrs = (!small.is_empty()).then_some(small);
    entry.large_xattrs = (!large.is_empty()).then_some(large);
    Ok(left_out)
}

fn stored<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    chunker: &mut Chunker,
    sink: &mut S,
    value: &[u8],
) -> Result<Content, ClientError> {
    let parts = store_content(keys, chunker, sink, value)?;
    Content::from_parts(parts, |page| {
        let name = keys.name(&page);
        sink.put(name, &page).map(|()| name)
    })
}

#[cfg(test)]
mod tests {
    use jetfrost_image::crypto::{Random, SeededRandom};
    use jetfrost_image::format::{EntryKind, EntryPage};

    use super::super::testing::{Chunks, keys};
    use super::*;

    fn kept(found: Vec<(Vec<u8>, Vec<u8>)>) -> (Entry, usize, Chunks) {
        let keys = keys();
        let (mut chunks, mut entry) = (Chunks::default(), Entry::new(b"a".to_vec(), EntryKind::Fifo));
        let attributes = Attributes { found, left_out: 0 };
        let left_out = keep(attributes, &mut entry, &keys, &mut Chunker::new(keys.border_seed()), &mut chunks).expect("kept");
        (entry, left_out, chunks)
    }

    fn values(count: usize, len: usize) -> Vec<(Vec<u8>, Vec<u8>)> {
        let random = SeededRandom::new(b"values");
        let value = |n: usize| {
            let mut bytes = vec![0; len];
            random.fill(&mut bytes);
            (format!("user.{n:05}").into_bytes(), bytes)
        };
        (0..count).map(value).collect()
    }

    #[test]
    fn small_values_are_in_the_entry_and_large_ones_are_chunks() {
        let all = [values(3, 100), vec![(b"user.icon".to_vec(), vec![7; 60_000])]].concat();
        let (entry, left_out, chunks) = kept(all);
        assert_eq!((entry.xattrs.as_ref().map(Vec::len), left_out, chunks.0.len()), (Some(3), 0, 1));
        let large = entry.large_xattrs.expect("one");
        assert_eq!((&large[0].name[..], large[0].value.len), (&b"user.icon"[..], 60_000));
    }

    /// The most that a list of names has room for, of values that cannot be compressed: 1 MiB and more of one file ended everybody's
    /// backups.
    #[test]
    fn whatever_a_file_carries_its_entry_fits_a_page_and_what_is_left_out_is_counted() {
        for (count, len) in [(20, 65_536), (250, 65_536), (4_000, 900), (60_000, 0), (100_000, 100)] {
            let (entry, left_out, _) = kept(values(count, len));
            let bytes = entry.to_bytes();
            assert!(bytes.len() <= MAX_ENTRY, "{count} of {len}: {} bytes", bytes.len());
            let there = entry.xattrs.iter().flatten().count() + entry.large_xattrs.iter().flatten().count();
            assert_eq!(there + left_out, count);
            assert_eq!(EntryPage::read(&bytes).expect("reads back"), [entry]);
            assert!(left_out == 0 || count > 4_000, "{count} of {len}: {left_out} are left out");
        }
    }
}
