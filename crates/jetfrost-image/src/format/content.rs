//! Content references: how trees and points refer to bytes in chunks (§ 4).

use minicbor::{Decode, Encode};

use super::{FormatError, MAX_CHUNK, from_cbor_sequence, to_cbor};
use crate::id::ChunkName;

/// The greatest depth of pages above content: enough for 10^15 bytes.
pub const MAX_DEPTH: u8 = 4;

/// More parts than this are moved to pages.
const INLINE_PARTS: usize = 256;
const MIN_PAGE: usize = 32;
const MAX_PAGE: usize = 1024;

/// A run of content bytes: in a chunk, or a hole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Encode, Decode)]
#[cbor(array)]
pub struct Part {
    /// Bytes of content.
    #[n(0)]
    pub len: u64,
    /// The chunk that holds them, or the page that leads to them; a hole has none and reads as zeros.
    #[n(1)]
    pub name: Option<ChunkName>,
}

/// Refers to the bytes of a file, a listing or a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Encode, Decode)]
#[cbor(array)]
pub struct Content {
    /// Bytes of content.
    #[n(0)]
    pub len: u64,
    /// 0: the parts are content; d: the parts are pages of depth d − 1.
    #[n(1)]
    pub depth: u8,
    /// In order, without gaps.
    #[n(2)]
    pub parts: Vec<Part>,
}

impl Content {
    /// Content without any bytes.
    #[must_use]
    pub fn empty() -> Self {
        Self { len: 0, depth: 0, parts: Vec::new() }
    }

    /// Refers to `parts` by pages if they are many; each page's bytes go through `put`, which stores them as a chunk.
    ///
    /// # Errors
    /// Whatever `put` returns.
    pub fn from_parts<E>(mut parts: Vec<Part>, mut put: impl FnMut(Vec<u8>) -> Result<ChunkName, E>) -> Result<Self, E> {
        let len = parts.iter().map(|p| p.len).sum();
        let mut depth = 0;
        while parts.len() > INLINE_PARTS && depth < MAX_DEPTH {
            parts = page_up(&parts, &mut put)?;
            depth += 1;
        }
        Ok(Self { len, depth, parts })
    }

    /// Checks what a reader relies on: depth, lengths that add up, chunks no longer than allowed.
    ///
    /// # Errors
    /// [`FormatError::Damaged`] when one of them does not hold.
    pub fn check(&self) -> Result<(), FormatError> {
        if self.depth > MAX_DEPTH {
            return Err(FormatError::damaged("a content reference", "it is too deep"));
        }
        check_parts(&self.parts, self.depth, self.len)
    }

    /// The parts in the page `bytes`, to which a part of depth `depth` and length `len` refers.
    ///
    /// # Errors
    /// [`FormatError::Damaged`] when the page is not CBOR or does not add up.
    pub fn parts_of_page(bytes: &[u8], depth: u8, len: u64) -> Result<Vec<Part>, FormatError> {
        let parts = from_cbor_sequence("a page of a content reference", bytes)?;
        check_parts(&parts, depth - 1, len)?;
        Ok(parts)
    }
}

fn check_parts(parts: &[Part], depth: u8, len: u64) -> Result<(), FormatError> {
    let mut sum = 0_u64;
    for part in parts {
        if depth == 0 && part.name.is_some() && part.len > MAX_CHUNK as u64 {
            return Err(FormatError::damaged("a content reference", "a chunk is longer than chunks are"));
        }
        sum = sum.checked_add(part.len).ok_or(FormatError::damaged("a content reference", "its lengths overflow"))?;
    }
    if sum == len { Ok(()) } else { Err(FormatError::damaged("a content reference", "its lengths do not add up")) }
}

fn page_up<E>(parts: &[Part], put: &mut impl FnMut(Vec<u8>) -> Result<ChunkName, E>) -> Result<Vec<Part>, E> {
    let mut upper = Vec::new();
    let mut page: Vec<Part> = Vec::new();
    for (i, part) in parts.iter().enumerate() {
        page.push(*part);
        if ends_page(&page) || i + 1 == parts.len() {
            let bytes = page.iter().flat_map(to_cbor).collect();
            let len = page.iter().map(|p| p.len).sum();
            upper.push(Part { len, name: Some(put(bytes)?) });
            page.clear();
        }
    }
    Ok(upper)
}

fn ends_page(page: &[Part]) -> bool {
    let at_border = page.last().and_then(|p| p.name).is_some_and(|name| name.0[31] == 0);
    page.len() >= MAX_PAGE || (page.len() >= MIN_PAGE && at_border)
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;
    use std::convert::Infallible;

    use super::super::from_cbor;
    use super::*;

    fn name(seed: u64) -> ChunkName {
        ChunkName(*blake3::hash(&seed.to_le_bytes()).as_bytes())
    }

    fn parts(range: std::ops::Range<u64>) -> Vec<Part> {
        range.map(|i| Part { len: 1000 + i % 7, name: (i % 50 != 0).then(|| name(i)) }).collect()
    }

    fn expand(content: &Content, pages: &HashMap<ChunkName, Vec<u8>>) -> Vec<Part> {
        let mut parts = content.parts.clone();
        for depth in (1..=content.depth).rev() {
            parts = parts
                .iter()
                .flat_map(|p| Content::parts_of_page(&pages[&p.name.expect("a page has a name")], depth, p.len).expect("sound"))
                .collect();
        }
        parts
    }

    fn build(all: &[Part]) -> (Content, HashMap<ChunkName, Vec<u8>>) {
        let mut pages = HashMap::new();
        let content = Content::from_parts(all.to_vec(), |bytes| {
            let name = ChunkName(*blake3::hash(&bytes).as_bytes());
            pages.insert(name, bytes);
            Ok::<_, Infallible>(name)
        });
        (content.expect("cannot fail"), pages)
    }

    #[test]
    fn few_parts_stay_inline_and_many_go_to_pages() {
        for (n, depth) in [(0, 0), (256, 0), (257, 1), (20_000, 1), (200_000, 2)] {
            let all = parts(0..n);
            let (content, pages) = build(&all);
            assert_eq!(content.depth, depth, "{n} parts");
            assert_eq!(content.check(), Ok(()));
            assert_eq!(expand(&content, &pages), all);
        }
    }

    #[test]
    fn an_insertion_at_the_front_changes_few_pages() {
        let all = parts(0..20_000);
        let mut longer = parts(90_000..90_003);
        longer.extend(&all);
        let (_, before) = build(&all);
        let (_, after) = build(&longer);
        let fresh = after.keys().filter(|k| !before.contains_key(k)).count();
        assert!(fresh <= 3, "{fresh} of {} pages are new", after.len());
    }

    #[test]
    fn lengths_that_do_not_add_up_are_refused() {
        let content = Content { len: 11, depth: 0, parts: vec![Part { len: 10, name: None }] };
        assert!(content.check().is_err());
        let overflowing =
            Content { len: 5, depth: 0, parts: vec![Part { len: u64::MAX, name: None }, Part { len: 6, name: None }] };
        assert!(overflowing.check().is_err());
        let too_long = Content { len: 1 << 21, depth: 0, parts: vec![Part { len: 1 << 21, name: Some(name(1)) }] };
        assert!(too_long.check().is_err());
    }

    #[test]
    fn a_hole_is_an_array_of_one() {
        assert_eq!(to_cbor(&Part { len: 5, name: None }), [0x81, 5]);
        assert_eq!(from_cbor::<Part>("a part", &[0x81, 5]), Ok(Part { len: 5, name: None }));
    }
}
