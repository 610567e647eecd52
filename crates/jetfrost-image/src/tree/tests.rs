//! Round trips of content and listings through a sink in memory.

use std::collections::HashMap;
use std::io;

use proptest::prelude::*;

use super::*;
use crate::crypto::{Random, SeededRandom, StoreKey, StoreKeys};
use crate::format::{Content, Entry, EntryKind, FormatError, MAX_CHUNK, Part};
use crate::id::{ChunkName, StoreId};

#[derive(Default)]
struct Chunks(HashMap<ChunkName, Vec<u8>>);

#[derive(Debug, thiserror::Error)]
enum Failed {
    #[error(transparent)]
    Format(#[from] FormatError),
    #[error(transparent)]
    Io(#[from] io::Error),
}

impl ChunkSink for Chunks {
    type Error = Failed;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<(), Failed> {
        self.0.insert(name, content.to_vec());
        Ok(())
    }
}

impl ChunkSource for Chunks {
    type Error = Failed;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>, Failed> {
        Ok(self.0[name].clone())
    }
}

fn keys() -> StoreKeys {
    StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]))
}

fn noise(len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    SeededRandom::new(b"tree").fill(&mut bytes);
    bytes
}

fn store(bytes: &[u8]) -> (Chunks, Vec<Part>) {
    let mut chunks = Chunks::default();
    let mut chunker = Chunker::new(keys().border_seed());
    let parts = store_content(&keys(), &mut chunker, &mut chunks, bytes).expect("stored");
    (chunks, parts)
}

#[test]
fn content_of_any_length_comes_back() {
    for len in [0, 1, MIN_CHUNK, MIN_CHUNK + 1, MAX_CHUNK, 4 * MAX_CHUNK, 9 * MAX_CHUNK + 17] {
        let bytes = noise(len);
        let (chunks, parts) = store(&bytes);
        let back: Vec<u8> = parts.iter().flat_map(|p| chunks.0[&p.name.expect("no holes")].clone()).collect();
        assert!(back == bytes, "{len} bytes");
        assert!(parts.iter().all(|p| p.len <= MAX_CHUNK as u64));
    }
}

#[test]
fn an_insertion_changes_few_chunks() {
    let bytes = noise(20 * MAX_CHUNK);
    let longer = [b"inserted at the front", &bytes[..]].concat();
    let (before, _) = store(&bytes);
    let (after, parts) = store(&longer);
    let fresh = after.0.keys().filter(|k| !before.0.contains_key(k)).count();
    assert!(parts.len() > 30 && fresh <= 3, "{fresh} of {} are new", parts.len());
}

#[test]
fn borders_depend_on_the_stores_seed() {
    let bytes = noise(8 * MAX_CHUNK);
    let lengths = |seed| {
        let mut lengths = Vec::new();
        let cut = Chunker::new(seed).cut(&bytes[..], |_, len| {
            lengths.push(len);
            Ok::<_, io::Error>(())
        });
        assert_eq!(cut.expect("cut"), bytes.len() as u64);
        lengths
    };
    assert_ne!(lengths(1), lengths(2));
}

fn list(names: impl Iterator<Item = String>) -> (Chunks, Content) {
    let mut chunks = Chunks::default();
    let mut listing = ListingWriter::default();
    for name in names {
        let entry = Entry { content: Some(Content::empty()), ..Entry::new(name.into_bytes(), EntryKind::File) };
        listing.push(&keys(), &mut chunks, &entry).expect("pushed");
    }
    let content = listing.finish(&keys(), &mut chunks).expect("finished");
    (chunks, content)
}

#[test]
fn a_large_listing_comes_back_and_one_more_name_changes_few_pages() {
    let names = || (0..50_000).map(|i| format!("tile-{i:06}.png"));
    let (before, listing) = list(names());
    let mut back = Vec::new();
    read_listing(&before, &listing, &mut |entry| {
        back.push(String::from_utf8(entry.name).expect("text"));
        Ok(())
    })
    .expect("read");
    assert!(back.into_iter().eq(names()));
    let (after, _) = list(names().take(30_000).chain(["tile-029999b.png".to_owned()]).chain(names().skip(30_000)));
    let fresh = after.0.keys().filter(|k| !before.0.contains_key(k)).count();
    assert!(fresh <= 2, "{fresh} of {} pages are new", after.0.len());
}

#[test]
fn a_path_is_found_or_says_where_it_ends() {
    let (mut chunks, inner) = list(["a.txt".to_owned()].into_iter());
    let mut root = ListingWriter::default();
    let maps = Entry { content: Some(inner), ..Entry::new(b"maps".to_vec(), EntryKind::Directory) };
    root.push(&keys(), &mut chunks, &maps).expect("pushed");
    let root = root.finish(&keys(), &mut chunks).expect("finished");
    assert_eq!(find_entry(&chunks, &root, b"/").expect("root"), None);
    assert_eq!(find_entry(&chunks, &root, b"/maps/a.txt").expect("found").expect("entry").name, b"a.txt");
    for (path, end) in [("/maps/b.txt", "/maps/b.txt"), ("/x/y", "/x"), ("/maps/a.txt/z", "/maps/a.txt/z")] {
        match find_entry(&chunks, &root, path.as_bytes()) {
            Err(ReadError::NotFound(at)) => assert_eq!(at, end.as_bytes()),
            other => panic!("{other:?}"),
        }
    }
}

/// A disk of `extents` extents of a hundred bytes, every seventh of them a hole, behind pages.
fn disk(extents: u64) -> (Chunks, Content, Vec<u8>) {
    let (mut chunks, mut parts, mut bytes) = (Chunks::default(), Vec::new(), Vec::new());
    for i in 0..extents {
        let extent = if i % 7 == 0 { [0; 100] } else { [u8::try_from(i % 251).expect("small") + 1; 100] };
        let name = keys().name(&extent);
        chunks.put(name, &extent).expect("put");
        parts.push(Part { len: 100, name: (i % 7 != 0).then_some(name) });
        bytes.extend(extent);
    }
    let content = Content::from_parts(parts, |page| {
        let name = keys().name(&page);
        chunks.put(name, &page).map(|()| name)
    });
    (chunks, content.expect("paged"), bytes)
}

/// Chunks of which one is lost.
struct Without<'c>(&'c Chunks, ChunkName);

impl ChunkSource for Without<'_> {
    type Error = Failed;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>, Failed> {
        if *name == self.1 { Err(io::Error::from(io::ErrorKind::NotFound).into()) } else { self.0.get(name) }
    }
}

#[test]
fn a_lost_page_costs_the_stretch_that_it_led_to() {
    let (chunks, content, bytes) = disk(2000);
    assert_eq!(content.depth, 1);
    let lost = content.parts[1].name.expect("a page");
    let mut known = Vec::new();
    let mut stretches = Vec::new();
    parts_or_lost(&Without(&chunks, lost), &content, &|error| matches!(error, Failed::Io(_)), &mut |at, part, readable| {
        if readable == Readable::Lost {
            stretches.push((at, part.len));
        }
        known.push((at, part.len));
        Ok(())
    })
    .expect("read");
    assert_eq!(stretches, [(content.parts[0].len, content.parts[1].len)]);
    let mut end = 0;
    for (at, len) in known {
        assert_eq!(at, end, "nothing is left out");
        end += len;
    }
    assert_eq!(end, bytes.len() as u64);
}

proptest! {
    #[test]
    fn any_range_of_a_disk_reads_as_it_was(extents in 0_u64..2000, from in 0_u64..220_000, len in 0_u64..3000) {
        let (chunks, content, bytes) = disk(extents);
        let range = from.min(content.len)..(from + len).min(content.len);
        let mut back: Vec<u8> = Vec::new();
        parts_between(&chunks, &content, range.clone(), &mut |offset, part| {
            let whole = part.name.map_or(vec![0; 100], |name| chunks.0[&name].clone());
            let (skip, end) = (range.start.saturating_sub(offset), (range.end - offset).min(part.len));
            back.extend(&whole[skip as usize..end as usize]);
            Ok(())
        })
        .expect("read");
        prop_assert_eq!(back, &bytes[range.start as usize..range.end as usize]);
    }
}

proptest! {
    #[test]
    fn cutting_does_not_depend_on_how_the_bytes_arrive(len in 0_usize..3_000_000, piece in 1_usize..300_000) {
        struct Pieces<'a>(&'a [u8], usize);
        impl io::Read for Pieces<'_> {
            fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
                let n = buf.len().min(self.1);
                io::Read::read(&mut self.0, &mut buf[..n])
            }
        }
        let bytes = noise(len);
        let mut chunks = Chunks::default();
        let mut chunker = Chunker::new(keys().border_seed());
        let parts = store_content(&keys(), &mut chunker, &mut chunks, Pieces(&bytes, piece)).expect("stored");
        prop_assert_eq!(parts, store(&bytes).1);
    }
}
