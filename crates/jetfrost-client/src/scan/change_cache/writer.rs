//! The present walk, written for the next.

use std::fs::File;
use std::io::{self, BufWriter, Seek, SeekFrom, Write};

use jetfrost_image::ChunkName;

use super::super::Counts;
use super::blocks::{BlockRef, Bytes, Remembered, RememberedFolder, RememberedInside, hash_of};

/// A page ends after so many bytes.
pub(super) const PAGE: usize = 64 << 10;

/// Writes blocks to the end of a walk file.
pub(super) struct WalkWriter {
    out: BufWriter<File>,
    /// Where the next block begins.
    at: u64,
    /// The folders that the walk is in, the innermost last.
    frames: Vec<Frame>,
}

/// A folder that is written.
#[derive(Default)]
struct Frame {
    pages: Vec<BlockRef>,
    page: Bytes,
}

impl WalkWriter {
    /// Goes on at `at`, where everything behind is of walks that were broken off.
    pub(super) fn new(mut file: File, at: u64) -> io::Result<Self> {
        file.set_len(at)?;
        file.seek(SeekFrom::Start(at))?;
        Ok(Self { out: BufWriter::with_capacity(1 << 18, file), at, frames: Vec::new() })
    }

    pub(super) fn leaf(&mut self, name: &[u8], seen: &Remembered) -> io::Result<()> {
        self.page()?.leaf(name, seen)?;
        self.end_full_page()
    }

    pub(super) fn folder(&mut self, name: &[u8], seen: &RememberedFolder) -> io::Result<()> {
        self.page()?.folder(name, seen)?;
        self.end_full_page()
    }

    pub(super) fn enter(&mut self) {
        self.frames.push(Frame::default());
    }

    /// Ends a folder: the chunks of its listing, and what was counted in it and below.
    pub(super) fn leave(&mut self, listing: &[ChunkName], counts: Counts) -> io::Result<RememberedInside> {
        self.end_page()?;
        let frame = self.frames.pop().ok_or(io::ErrorKind::InvalidInput)?;
        let mut block = Bytes::default();
        block.names(listing)?;
        let number = u32::try_from(frame.pages.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        block.0.extend(number.to_le_bytes());
        frame.pages.iter().for_each(|page| block.reference(page));
        Ok(RememberedInside { folder: self.write(&block.0)?, counts })
    }

    /// Makes all of it durable. Returns how long the file is.
    pub(super) fn finish(self) -> io::Result<u64> {
        self.out.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
        Ok(self.at)
    }

    fn page(&mut self) -> io::Result<&mut Bytes> {
        self.frames.last_mut().map(|frame| &mut frame.page).ok_or_else(|| io::ErrorKind::InvalidInput.into())
    }

    fn end_full_page(&mut self) -> io::Result<()> {
        if self.page()?.0.len() < PAGE { Ok(()) } else { self.end_page() }
    }

    fn end_page(&mut self) -> io::Result<()> {
        let page = std::mem::take(&mut self.page()?.0);
        if page.is_empty() {
            return Ok(());
        }
        let written = self.write(&page)?;
        let frame = self.frames.last_mut().ok_or(io::ErrorKind::InvalidInput)?;
        frame.pages.push(written);
        // The next page needs as much.
        frame.page.0 = page;
        frame.page.0.clear();
        Ok(())
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<BlockRef> {
        let len = u32::try_from(bytes.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        let block = BlockRef { at: self.at, len, hash: hash_of(bytes) };
        self.out.write_all(bytes)?;
        self.at += u64::from(len);
        Ok(block)
    }
}
