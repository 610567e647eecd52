//! Files of a point as one stream: the content of one, or several in an archive.

use std::collections::HashMap;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use std::vec::IntoIter;

use archive::Archive;
use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_platform::{path_bytes, path_of};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::{Phase, Progress};

use crate::browse::{Browser, OpenPoint, entries_of, find};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::restore::{NotRestored, Trouble, Troubles, no_two_of_one_name};
use reading::{BATCH_BYTES, BATCH_PIECES, Reading};
use tar::TarArchive;
use zip::ZipArchive;

mod archive;
mod reading;
mod tar;
mod zip;

type Result<T> = std::result::Result<T, ClientError>;

/// The form of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// The pax interchange format (POSIX.1-2017, pax): everything that a point has of a file.
    Tar,
    /// ZIP (APPNOTE 6.3.10), with what programs for it usually take: files, folders and symbolic links, permissions and times.
    Zip,
}

/// What an export came to.
#[derive(Debug)]
pub struct ExportReport {
    /// How far it came.
    pub progress: Progress,
    /// What is not in the archive as it was, by path.
    pub troubles: Vec<NotRestored>,
    /// Why the service could not put this export on record, if so.
    pub not_on_record: Option<ClientError>,
    /// How long it took.
    pub took: Duration,
}

/// Writes what was at these paths, or everything if there are none, as an archive. What is asked for by its path has its last name there.
///
/// # Errors
/// [`ClientError`] when it could not be done at all, or `out` cannot be written. What is damaged is in the report.
pub fn export(
    browser: &Browser,
    point: &OpenPoint,
    paths: &[PathBuf],
    form: Form,
    out: &mut dyn Write,
    meter: &Arc<Meter>,
) -> Result<ExportReport> {
    no_two_of_one_name(paths)?;
    let scope = if paths.is_empty() { Scope::Everything } else { Scope::Selection };
    if scope == Scope::Everything {
        meter.expect(point.head.files, point.head.bytes);
    }
    on_record(browser, point, scope, meter, |troubles| match form {
        Form::Tar => Exporting::new(browser, meter, troubles, TarArchive::new(out)).all(point, paths),
        Form::Zip => Exporting::new(browser, meter, troubles, ZipArchive::new(out)).all(point, paths),
    })
}

/// Writes the content of a file.
///
/// # Errors
/// [`ClientError::NoFile`] when it is something else; [`ClientError::Damaged`] after what comes before the damage was written; as [`export`].
pub fn print(browser: &Browser, point: &OpenPoint, path: &Path, out: &mut dyn Write, meter: &Arc<Meter>) -> Result<ExportReport> {
    let entry = find(&browser.source(), point, path_bytes(path))?;
    let entry = entry.filter(|entry| entry.kind == EntryKind::File).ok_or_else(|| ClientError::NoFile(path.into()))?;
    meter.expect(1, entry.len());
    on_record(browser, point, Scope::Selection, meter, |_| {
        Reading::new(browser, meter).content(&entry.content.unwrap_or_else(Content::empty), &mut |piece| {
            out.write_all(piece.ok_or(ClientError::Damaged)?).map_err(ClientError::file("writing", "the output"))
        })?;
        meter.file_done();
        out.flush().map_err(ClientError::file("writing", "the output"))
    })
}

/// The bytes of a content; the caller has judged how many it claims to be.
pub(crate) fn read_small(browser: &Browser, content: &Content) -> Result<Vec<u8>> {
    let (mut bytes, meter) = (Vec::new(), Meter::default());
    Reading::new(browser, &meter).content(content, &mut |piece| {
        bytes.extend_from_slice(piece.ok_or(ClientError::Damaged)?);
        Ok(())
    })?;
    Ok(bytes)
}

/// Does `work` as a restore that is on record.
fn on_record(
    browser: &Browser,
    point: &OpenPoint,
    scope: Scope,
    meter: &Arc<Meter>,
    work: impl FnOnce(&Troubles) -> Result<()>,
) -> Result<ExportReport> {
    let started = Instant::now();
    let begin = BeginRestore { point: point.head.sequence, scope, purpose: Purpose::Export, target: None, order: None };
    let record = browser.source.begin_restore(&begin, meter)?;
    meter.enter(Phase::Sending);
    let troubles = Troubles::default();
    let result = work(&troubles);
    let troubles = troubles.take();
    let ((), not_on_record) = record.end(result, meter, |()| troubles.len() as u64)?;
    Ok(ExportReport { progress: meter.progress(), troubles, not_on_record, took: started.elapsed() })
}

/// An export under way.
struct Exporting<'e, A> {
    browser: &'e Browser,
    reading: Reading<'e>,
    archive: A,
    meter: &'e Meter,
    troubles: &'e Troubles,
    /// Entries that wait until the content of many can be fetched at once, by the names that they have in the archive.
    waiting: Vec<(Vec<u8>, Entry)>,
    bytes_waiting: u64,
    /// First name in the archive of a file that has several.
    first: HashMap<(u64, u64), Vec<u8>>,
}

impl<'e, A: Archive> Exporting<'e, A> {
    fn new(browser: &'e Browser, meter: &'e Meter, troubles: &'e Troubles, archive: A) -> Self {
        let reading = Reading::new(browser, meter);
        Self { browser, reading, archive, meter, troubles, waiting: Vec::new(), bytes_waiting: 0, first: HashMap::new() }
    }

    fn all(mut self, point: &OpenPoint, paths: &[PathBuf]) -> Result<()> {
        let root = &point.body.root;
        if paths.is_empty() {
            self.below(Vec::new(), root)?;
        }
        for path in paths {
            match find(&self.browser.source(), point, path_bytes(path))? {
                None => self.below(Vec::new(), root)?,
                Some(entry) => {
                    let (name, listing) = (entry.name.to_vec(), folder_listing(&entry));
                    self.add(name.clone(), entry)?;
                    listing.map_or(Ok(()), |listing| self.below(name, &listing))?;
                }
            }
        }
        self.flush()?;
        self.archive.finish().map_err(writing)
    }

    /// Adds what is in a folder, each folder in it with what it holds before the next name: readers give a folder its time when they
    /// have left it.
    fn below(&mut self, name: Vec<u8>, listing: &Content) -> Result<()> {
        let mut folders = vec![(self.listed(&name, listing)?, name)];
        while let Some((entries, folder)) = folders.last_mut() {
            let Some(entry) = entries.next() else {
                folders.pop();
                continue;
            };
            let name = if folder.is_empty() { entry.name.clone() } else { [&folder[..], b"/", &entry.name].concat() };
            let listing = folder_listing(&entry);
            self.add(name.clone(), entry)?;
            if let Some(listing) = listing {
                folders.push((self.listed(&name, &listing)?, name));
            }
        }
        Ok(())
    }

    /// What is in a folder.
    fn listed(&self, folder: &[u8], listing: &Content) -> Result<IntoIter<Entry>> {
        if self.meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        let (entries, read) = entries_of(&self.browser.source(), listing);
        match read {
            Err(error) if error.is_loss() => {
                self.troubles.add(&path_of(folder), Trouble::Damaged, "part of this folder's listing is damaged or missing");
            }
            other => other?,
        }
        Ok(entries.into_iter())
    }

    fn add(&mut self, name: Vec<u8>, entry: Entry) -> Result<()> {
        if !self.archive.takes(&name) {
            self.troubles.add(
                &path_of(&name),
                Trouble::Unsupported,
                "its name is no text, and an archive of this form takes no other",
            );
            return Ok(());
        }
        let bytes = entry.len();
        if entry.kind == EntryKind::File && bytes > BATCH_BYTES {
            self.flush()?;
            return self.large(&name, &entry);
        }
        self.waiting.push((name, entry));
        self.bytes_waiting += bytes;
        if self.bytes_waiting >= BATCH_BYTES || self.waiting.len() >= BATCH_PIECES { self.flush() } else { Ok(()) }
    }

    /// Writes what waits.
    fn flush(&mut self) -> Result<()> {
        self.bytes_waiting = 0;
        let waiting = std::mem::take(&mut self.waiting);
        let is_file = |entry: &Entry| entry.kind == EntryKind::File;
        self.reading.ahead(waiting.iter().filter(|(_, entry)| is_file(entry)).filter_map(|(_, entry)| entry.content.as_ref()))?;
        for (name, entry) in waiting {
            if self.is_second_name(&name, &entry)? {
                continue;
            }
            if is_file(&entry) { self.small(&name, &entry)? } else { self.without_content(&name, &entry)? }
        }
        self.reading.forget();
        Ok(())
    }

    /// Writes another name of a file that is in the archive, if that can be told there.
    fn is_second_name(&mut self, name: &[u8], entry: &Entry) -> Result<bool> {
        let Some(first) = entry.links.and_then(|file| self.first.get(&file)) else { return Ok(false) };
        let is_told = self.archive.link(name, entry, first).map_err(writing)?;
        if is_told {
            self.meter.file_done();
        }
        Ok(is_told)
    }

    fn without_content(&mut self, name: &[u8], entry: &Entry) -> Result<()> {
        if !self.archive.without_content(name, entry).map_err(writing)? {
            self.troubles.add(&path_of(name), Trouble::Unsupported, "an archive of this form does not take it");
        }
        self.noted(name, entry);
        Ok(())
    }

    /// A file whose content is gathered before anything of it is written: one that is damaged is left out.
    fn small(&mut self, name: &[u8], entry: &Entry) -> Result<()> {
        let mut content = Vec::new();
        let empty = Content::empty();
        let read = self.reading.content(entry.content.as_ref().unwrap_or(&empty), &mut |piece| {
            content.extend_from_slice(piece.ok_or(ClientError::Damaged)?);
            Ok(())
        });
        match read {
            Err(ClientError::Damaged | ClientError::Format(_)) => {
                self.troubles.add(&path_of(name), Trouble::Damaged, "a piece of it is damaged or missing: it is left out");
                return Ok(());
            }
            other => other?,
        }
        let archive = &mut self.archive;
        archive.begin(name, entry).and_then(|()| archive.write(&content)).and_then(|()| archive.end()).map_err(writing)?;
        self.file_done(name, entry);
        Ok(())
    }

    /// A file that is written as it comes. Of one that is damaged the archive has said the length by then: zeros fill the gaps.
    fn large(&mut self, name: &[u8], entry: &Entry) -> Result<()> {
        if self.is_second_name(name, entry)? {
            return Ok(());
        }
        let archive = &mut self.archive;
        archive.begin(name, entry).map_err(writing)?;
        let (mut written, mut is_damaged, empty) = (0, false, Content::empty());
        let read = self.reading.stretches(entry.content.as_ref().unwrap_or(&empty), &mut |len, piece| {
            written += len;
            is_damaged |= piece.is_none();
            match piece {
                Some(piece) => archive.write(piece),
                None => zeros(archive, len),
            }
            .map_err(writing)
        });
        match read {
            Err(ClientError::Damaged | ClientError::Format(_)) => is_damaged = true,
            other => other?,
        }
        zeros(&mut self.archive, entry.len().saturating_sub(written)).and_then(|()| self.archive.end()).map_err(writing)?;
        if is_damaged {
            let what = "pieces of it are damaged or missing: zeros stand in their place";
            self.troubles.add(&path_of(name), Trouble::Damaged, what);
        }
        self.file_done(name, entry);
        Ok(())
    }

    fn file_done(&mut self, name: &[u8], entry: &Entry) {
        if entry.flags().unsettled {
            let what = "it kept changing while it was backed up: look whether it is sound";
            self.troubles.add(&path_of(name), Trouble::Unsettled, what);
        }
        self.meter.file_done();
        self.noted(name, entry);
    }

    fn noted(&mut self, name: &[u8], entry: &Entry) {
        if let Some(file) = entry.links {
            self.first.entry(file).or_insert_with(|| name.to_vec());
        }
    }
}

/// What is in a folder, if it is one.
fn folder_listing(entry: &Entry) -> Option<Content> {
    (entry.kind == EntryKind::Directory).then(|| entry.content.clone().unwrap_or_else(Content::empty))
}

fn writing(error: io::Error) -> ClientError {
    ClientError::file("writing", "the archive")(error)
}

fn zeros(archive: &mut impl Archive, mut len: u64) -> io::Result<()> {
    static SOME: [u8; 1 << 16] = [0; 1 << 16];
    while len > 0 {
        let now = usize::try_from(len.min(SOME.len() as u64)).expect("not longer than that");
        archive.write(&SOME[..now])?;
        len -= now as u64;
    }
    Ok(())
}
