//! Reading content and listings back.

use std::ops::Range;

use crate::format::{Content, Entry, EntryKind, EntryPage, FormatError, Part};
use crate::id::ChunkName;

/// Gives chunks out of the store, opened and checked.
pub trait ChunkSource {
    /// Why a chunk could not be had.
    type Error: From<FormatError>;

    /// The content of a chunk.
    ///
    /// # Errors
    /// As the source has them.
    fn get(&self, name: &ChunkName) -> Result<Vec<u8>, Self::Error>;
}

/// Why a path leads nowhere.
#[derive(Debug, thiserror::Error)]
pub enum ReadError<E> {
    /// The source failed.
    #[error(transparent)]
    Source(E),
    /// There is no such name.
    #[error("there is no '{}' in this recovery point", String::from_utf8_lossy(.0))]
    NotFound(Vec<u8>),
}

/// The content parts of a reference, in order, whatever its depth; each is given to `each`.
///
/// # Errors
/// Of the source, of `each`; [`FormatError`] when the reference does not add up.
pub fn expand_parts<S: ChunkSource>(
    source: &S,
    content: &Content,
    each: &mut impl FnMut(Part) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    content.check()?;
    expand(source, &content.parts, content.depth, each)
}

fn expand<S: ChunkSource>(
    source: &S,
    parts: &[Part],
    depth: u8,
    each: &mut impl FnMut(Part) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    for part in parts {
        match part.name {
            Some(name) if depth > 0 => {
                let page = Content::parts_of_page(&source.get(&name)?, depth, part.len)?;
                expand(source, &page, depth - 1, each)?;
            }
            _ => each(*part)?,
        }
    }
    Ok(())
}

/// The content parts of a reference, in order, each with its offset. Where the page that leads to some is lost, which
/// `is_loss` decides from the error, the stretch that they were is given as one part.
///
/// # Errors
/// Of the source that are no losses; of `each`.
pub fn parts_or_lost<S: ChunkSource>(
    source: &S,
    content: &Content,
    is_loss: &impl Fn(&S::Error) -> bool,
    each: &mut impl FnMut(u64, Part, Readable) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    content.check()?;
    or_lost(source, &content.parts, content.depth, 0, is_loss, each)
}

/// Whether it is known what a part is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Readable {
    /// It is a chunk, or a hole.
    Known,
    /// It is a stretch whose parts are not known, since the page that lists them is lost.
    Lost,
}

fn or_lost<S: ChunkSource>(
    source: &S,
    parts: &[Part],
    depth: u8,
    begins: u64,
    is_loss: &impl Fn(&S::Error) -> bool,
    each: &mut impl FnMut(u64, Part, Readable) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    let mut at = begins;
    for part in parts {
        match part.name {
            Some(name) if depth > 0 => {
                let page = source.get(&name).and_then(|page| Ok(Content::parts_of_page(&page, depth, part.len)?));
                match page {
                    Ok(page) => or_lost(source, &page, depth - 1, at, is_loss, each)?,
                    Err(error) if is_loss(&error) => each(at, *part, Readable::Lost)?,
                    Err(error) => return Err(error),
                }
            }
            _ => each(at, *part, Readable::Known)?,
        }
        at += part.len;
    }
    Ok(())
}

/// The content parts that overlap `range`, in order, each with its offset; only pages that lead to them are read.
///
/// # Errors
/// Of the source, of `each`; [`FormatError`] when the reference does not add up.
pub fn parts_between<S: ChunkSource>(
    source: &S,
    content: &Content,
    range: Range<u64>,
    each: &mut impl FnMut(u64, Part) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    content.check()?;
    between(source, &content.parts, content.depth, 0, &range, each)
}

fn between<S: ChunkSource>(
    source: &S,
    parts: &[Part],
    depth: u8,
    begins: u64,
    range: &Range<u64>,
    each: &mut impl FnMut(u64, Part) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    let mut at = begins;
    for part in parts {
        let (from, to) = (at, at + part.len);
        at = to;
        if to <= range.start {
            continue;
        }
        if from >= range.end {
            break;
        }
        match part.name {
            Some(name) if depth > 0 => {
                let page = Content::parts_of_page(&source.get(&name)?, depth, part.len)?;
                between(source, &page, depth - 1, from, range, each)?;
            }
            _ => each(from, *part)?,
        }
    }
    Ok(())
}

/// The entries of a listing, page by page, in order; each is given to `each`.
///
/// # Errors
/// Of the source, of `each`; [`FormatError`] when names are not in order.
pub fn read_listing<S: ChunkSource>(
    source: &S,
    listing: &Content,
    each: &mut impl FnMut(Entry) -> Result<(), S::Error>,
) -> Result<(), S::Error> {
    let mut last: Option<Vec<u8>> = None;
    expand_parts(source, listing, &mut |part| {
        let name = part.name.ok_or(FormatError::damaged("a folder's listing", "it has a hole"))?;
        for entry in EntryPage::read(&source.get(&name)?)? {
            if last.as_ref().is_some_and(|last| *last >= entry.name) {
                return Err(FormatError::damaged("a folder's listing", "its names are not in order").into());
            }
            last = Some(entry.name.clone());
            each(entry)?;
        }
        Ok(())
    })
}

/// The entry at `path`, whose components are joined by `/`, below the listing `root`; `None` for the root itself.
///
/// # Errors
/// [`ReadError::NotFound`] with the part of the path that leads nowhere.
pub fn find_entry<S: ChunkSource>(source: &S, root: &Content, path: &[u8]) -> Result<Option<Entry>, ReadError<S::Error>> {
    let mut found: Option<Entry> = None;
    let mut walked = Vec::new();
    for component in path.split(|b| *b == b'/').filter(|c| !c.is_empty()) {
        walked.push(b'/');
        walked.extend(component);
        let listing = match &found {
            None => root,
            Some(Entry { kind: EntryKind::Directory, content: Some(listing), .. }) => listing,
            Some(_) => return Err(ReadError::NotFound(walked)),
        };
        let mut next = None;
        read_listing(source, listing, &mut |entry| {
            if entry.name == component {
                next = Some(entry);
            }
            Ok(())
        })
        .map_err(ReadError::Source)?;
        found = Some(next.ok_or_else(|| ReadError::NotFound(walked.clone()))?);
    }
    Ok(found)
}
