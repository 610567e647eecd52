//! The last walk, read in step with the present one; both go through names in the same order.

use std::fs::File;
use std::io;

use jetfrost_image::ChunkName;

use super::super::change_profile::{FileSeen, Unpaired};
use super::blocks::{BlockRef, Fields, Item, Remembered, RememberedFolder, RememberedInside, read};

/// Reads the last walk.
pub(crate) struct WalkReader {
    file: File,
    /// The folders that the present walk is in, the innermost last.
    frames: Vec<Frame>,
    /// The chunks of everything that is read, if they are noted: for a walk that takes the rest over: it says by them what is gone.
    passed: Option<Vec<ChunkName>>,
    /// The files that the present walk did not come to.
    not_come_to: Unpaired,
    /// When that walk began, in seconds since 1970; none where it does not ask for them.
    asked_at: Option<i64>,
}

/// A folder that is read.
struct Frame {
    /// What it lists and was not come to yet, in reverse.
    pages: Vec<BlockRef>,
    page: Vec<u8>,
    /// Where in the page the next item begins.
    at: usize,
    next: Option<Item>,
    /// Whether names were passed that the present walk did not ask for.
    has_lost: bool,
}

impl WalkReader {
    /// The walk whose outermost folder that is; `notes` the chunks of all that is read.
    pub(super) fn new(file: File, root: BlockRef, notes: bool) -> io::Result<Self> {
        let passed = notes.then(Vec::new);
        let mut reader = Self { file, frames: Vec::new(), passed, not_come_to: Unpaired::default(), asked_at: None };
        reader.push(root)?;
        Ok(reader)
    }

    /// Notes the files that the present walk, which began `at`, does not come to.
    pub(crate) fn note_what_is_gone(&mut self, at: i64) {
        self.asked_at = Some(at);
    }

    /// What is remembered of the file `name` in the present folder.
    pub(crate) fn leaf(&mut self, name: &[u8]) -> io::Result<Option<Remembered>> {
        match self.come_to(name)? {
            Some(Item::Leaf(_, remembered)) => {
                self.note(&remembered.names);
                Ok(Some(remembered))
            }
            Some(other) => self.pass(&other).map(|()| None),
            None => Ok(None),
        }
    }

    /// What is remembered of the folder `name` in the present folder. What it holds is for [`Self::enter`], [`Self::lose`], or is taken over.
    pub(crate) fn folder(&mut self, name: &[u8]) -> io::Result<Option<RememberedFolder>> {
        match self.come_to(name)? {
            Some(Item::Folder(_, remembered)) => {
                self.note(&remembered.names);
                Ok(Some(remembered))
            }
            Some(other) => self.pass(&other).map(|()| None),
            None => Ok(None),
        }
    }

    /// Goes into a folder.
    pub(crate) fn enter(&mut self, inside: &RememberedInside) -> io::Result<()> {
        self.push(inside.folder)
    }

    /// Leaves the present folder, past whatever is left in it. Says whether everything that was in it was asked for.
    pub(crate) fn leave(&mut self) -> io::Result<bool> {
        if self.passed.is_some() || self.asked_at.is_some() {
            while let Some(item) = self.take()? {
                self.pass(&item)?;
            }
        }
        let is_rest = |frame: &Frame| frame.next.is_some() || frame.at < frame.page.len() || !frame.pages.is_empty();
        Ok(self.frames.pop().is_some_and(|frame| !frame.has_lost && !is_rest(&frame)))
    }

    /// What a folder held is gone, or is walked as if it were new.
    pub(crate) fn lose(&mut self, folder: &RememberedFolder) -> io::Result<()> {
        let is_asked_for = self.passed.is_some() || self.asked_at.is_some();
        let (Some(inside), true) = (&folder.inside, is_asked_for) else { return Ok(()) };
        self.push(inside.folder)?;
        self.leave().map(drop)
    }

    /// What a folder held is there, but cannot be read.
    pub(crate) fn lose_sight(&mut self, folder: &RememberedFolder) -> io::Result<()> {
        let asked_at = self.asked_at.take();
        let lost = self.lose(folder);
        self.asked_at = asked_at;
        lost
    }

    /// The chunks of everything that was read, and the files that the present walk did not come to.
    pub(crate) fn passed(self) -> (Vec<ChunkName>, Unpaired) {
        (self.passed.unwrap_or_default(), self.not_come_to)
    }

    fn push(&mut self, folder: BlockRef) -> io::Result<()> {
        let bytes = read(&self.file, folder)?;
        let mut fields = Fields(&bytes);
        let own = fields.names()?;
        let number = u32::from_le_bytes(fields.bytes()?);
        let mut pages = (0..number).map(|_| fields.reference()).collect::<io::Result<Vec<_>>>()?;
        if !fields.0.is_empty() {
            return Err(io::ErrorKind::InvalidData.into());
        }
        pages.reverse();
        self.note(&own);
        self.frames.push(Frame { pages, page: Vec::new(), at: 0, next: None, has_lost: false });
        Ok(())
    }

    fn note(&mut self, names: &[ChunkName]) {
        if let Some(passed) = &mut self.passed {
            passed.extend(names);
        }
    }

    /// The item of that name, past names before it: they are gone, or are now something else.
    fn come_to(&mut self, name: &[u8]) -> io::Result<Option<Item>> {
        loop {
            match self.take()? {
                Some(item) if item.name() < name => self.pass(&item)?,
                Some(item) if item.name() == name => return Ok(Some(item)),
                other => {
                    self.frame()?.next = other;
                    return Ok(None);
                }
            }
        }
    }

    fn pass(&mut self, item: &Item) -> io::Result<()> {
        self.frame()?.has_lost = true;
        match item {
            Item::Leaf(name, leaf) => {
                self.note(&leaf.names);
                if let Some(gone) = self.asked_at.and_then(|at| FileSeen::of(name, leaf, at)) {
                    self.not_come_to.push(gone);
                }
                Ok(())
            }
            Item::Folder(_, folder) => {
                self.note(&folder.names);
                self.lose(folder)
            }
        }
    }

    fn take(&mut self) -> io::Result<Option<Item>> {
        let frame = self.frames.last_mut().ok_or(io::ErrorKind::InvalidData)?;
        if let Some(item) = frame.next.take() {
            return Ok(Some(item));
        }
        while frame.at == frame.page.len() {
            let Some(page) = frame.pages.pop() else { return Ok(None) };
            (frame.page, frame.at) = (read(&self.file, page)?, 0);
        }
        let mut fields = Fields(&frame.page[frame.at..]);
        let item = fields.item()?;
        frame.at = frame.page.len() - fields.0.len();
        Ok(Some(item))
    }

    fn frame(&mut self) -> io::Result<&mut Frame> {
        self.frames.last_mut().ok_or_else(|| io::ErrorKind::InvalidData.into())
    }
}
