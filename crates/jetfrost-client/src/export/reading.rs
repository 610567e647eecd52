//! Reading content in its order, many pieces in one call.

use std::collections::HashMap;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::Opener;
use jetfrost_image::format::{Content, Part};
use jetfrost_image::tree::expand_parts;

use super::Result;
use crate::browse::Browser;
use crate::error::ClientError;
use crate::progress::Meter;

/// So many bytes are fetched at once, or pieces.
pub(super) const BATCH_BYTES: u64 = 8 << 20;
pub(super) const BATCH_PIECES: usize = 1024;

/// Takes the pieces of a content in their order: how long each should be, and what it is unless it is damaged or missing.
type Each<'e> = &'e mut dyn FnMut(u64, Option<&[u8]>) -> Result<()>;

/// Reads content.
pub(super) struct Reading<'r> {
    browser: &'r Browser,
    opener: Opener,
    meter: &'r Meter,
    /// Chunks that were fetched ahead; none for one that is damaged or missing.
    ahead: HashMap<ChunkName, Option<Vec<u8>>>,
}

impl<'r> Reading<'r> {
    pub(super) fn new(browser: &'r Browser, meter: &'r Meter) -> Self {
        Self { browser, opener: Opener::new(browser.keys.clone()), meter, ahead: HashMap::new() }
    }

    /// Fetches in one call what several contents consist of; together they are not longer than a batch.
    pub(super) fn ahead<'c>(&mut self, contents: impl Iterator<Item = &'c Content>) -> Result<()> {
        let names = contents.flat_map(|content| content.parts.iter().filter(|_| content.depth == 0).filter_map(|part| part.name));
        let mut names: Vec<ChunkName> = names.collect();
        names.sort_unstable();
        names.dedup();
        self.fetch(&names)
    }

    /// Forgets what was fetched ahead.
    pub(super) fn forget(&mut self) {
        self.ahead.clear();
    }

    /// Gives the pieces of a content to `each`, in order; none for one that is damaged or missing.
    pub(super) fn content(&mut self, content: &Content, each: &mut dyn FnMut(Option<&[u8]>) -> Result<()>) -> Result<()> {
        self.stretches(content, &mut |_, piece| each(piece))
    }

    /// The same, with the length that each should have.
    pub(super) fn stretches(&mut self, content: &Content, each: Each<'_>) -> Result<()> {
        let (mut batch, mut bytes) = (Vec::new(), 0);
        let browser = self.browser;
        expand_parts(&browser.source(), content, &mut |part| {
            bytes += part.name.map_or(0, |_| part.len);
            batch.push(part);
            if bytes >= BATCH_BYTES || batch.len() >= BATCH_PIECES {
                bytes = 0;
                return self.give(&std::mem::take(&mut batch), each);
            }
            Ok(())
        })?;
        self.give(&batch, each)
    }

    fn give(&mut self, batch: &[Part], each: Each<'_>) -> Result<()> {
        static HOLE: [u8; 1 << 16] = [0; 1 << 16];
        if self.meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        let wanted = batch.iter().filter_map(|part| part.name).filter(|name| !self.ahead.contains_key(name));
        let mut fetched: Vec<ChunkName> = wanted.collect();
        fetched.sort_unstable();
        fetched.dedup();
        self.fetch(&fetched)?;
        for part in batch {
            match part.name {
                Some(name) => {
                    let piece = self.ahead.get(&name).and_then(Option::as_deref);
                    // One that is not as long as it should be is not what belongs there.
                    each(part.len, piece.filter(|piece| piece.len() as u64 == part.len))?;
                }
                None => {
                    let mut left = part.len;
                    while left > 0 {
                        let now = left.min(HOLE.len() as u64);
                        each(now, Some(&HOLE[..usize::try_from(now).expect("not longer than that")]))?;
                        left -= now;
                    }
                }
            }
            self.meter.bytes_done(part.len);
        }
        fetched.iter().for_each(|name| drop(self.ahead.remove(name)));
        Ok(())
    }

    fn fetch(&mut self, names: &[ChunkName]) -> Result<()> {
        if names.is_empty() {
            return Ok(());
        }
        let Self { browser, opener, meter, ahead } = self;
        browser.source.fetch(names, |i, sealed| {
            meter.sent(sealed.as_ref().map_or(0, |sealed| sealed.len()) as u64);
            let content = sealed.and_then(|sealed| opener.open(&names[i], sealed).ok().map(<[u8]>::to_vec));
            ahead.insert(names[i], content);
            Ok(())
        })
    }
}
