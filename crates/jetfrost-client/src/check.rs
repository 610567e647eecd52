//! The deep check: with the key, that everything a point needs comes, decrypts and is what its name says.

use std::collections::HashSet;
use std::sync::Arc;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Opener, random_array};
use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_image::tree::{expand_parts, read_listing};

use crate::browse::{Browser, OpenPoint, StoreSource};
use crate::error::ClientError;
use crate::progress::Meter;

type Result<T> = std::result::Result<T, ClientError>;

/// Chunks fetched in one call.
const BATCH: usize = 64;

/// What a check came to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CheckReport {
    /// Files and other entries whose description was read.
    pub entries: u64,
    /// Content chunks that were fetched, opened and compared with their names.
    pub chunks: u64,
    /// Bytes of content in them.
    pub bytes: u64,
    /// Content chunks that the share left out.
    pub left_out: u64,
    /// Absolute paths of what is damaged: files of which a chunk is, and folders whose listing is.
    pub damaged: Vec<Vec<u8>>,
}

/// Checks a point. All folders are read; of the content of files `share` percent, chosen at random.
///
/// # Errors
/// What the service or the network said. Damage is no error, it is what the report is for.
pub fn check(browser: &Browser, point: &OpenPoint, share: u8, meter: &Arc<Meter>) -> Result<CheckReport> {
    let salt = u64::from_le_bytes(random_array(&crate::system_random()));
    meter.expect(point.head.files, point.head.bytes);
    let mut check = Check {
        browser,
        meter,
        report: CheckReport::default(),
        chosen: Box::new(move |name| drawn(name, salt) < share),
        seen: HashSet::new(),
        batch: Vec::new(),
        hurt: HashSet::new(),
        opener: Opener::new(browser.keys.clone()),
    };
    check.walk(&point.body.root, &mut |check, _, content| check.content(content))?;
    check.fetch()?;
    if !check.hurt.is_empty() {
        // Which files a damaged chunk touches is looked up only when there is one.
        check.report.entries = 0;
        check.report.damaged.clear();
        check.walk(&point.body.root, &mut Check::blame)?;
    }
    Ok(check.report)
}

/// A number from 0 to 99 for a name; names are evenly spread, and the salt makes every check draw others.
fn drawn(name: &ChunkName, salt: u64) -> u8 {
    let first = u64::from_le_bytes(name.0[..8].try_into().expect("eight bytes"));
    u8::try_from(first.wrapping_add(salt) % 100).expect("less than 100")
}

struct Check<'c> {
    browser: &'c Browser,
    meter: &'c Arc<Meter>,
    report: CheckReport,
    chosen: Box<dyn Fn(&ChunkName) -> bool>,
    seen: HashSet<ChunkName>,
    batch: Vec<ChunkName>,
    hurt: HashSet<ChunkName>,
    opener: Opener,
}

type OfFile<'f, 'c> = &'f mut dyn FnMut(&mut Check<'c>, &[u8], &Content) -> Result<()>;

impl<'c> Check<'c> {
    /// Goes through all folders; `of_file` gets every file's path and content.
    fn walk(&mut self, root: &Content, of_file: OfFile<'_, 'c>) -> Result<()> {
        let source = self.browser.source();
        let mut folders = vec![(Vec::new(), root.clone())];
        while let Some((path, listing)) = folders.pop() {
            if self.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            for entry in self.listing(&source, &path, &listing)? {
                self.report.entries += 1;
                let below = [&path[..], b"/", &entry.name].concat();
                match (entry.kind, &entry.content) {
                    (EntryKind::Directory, Some(listing)) => folders.push((below, listing.clone())),
                    (_, Some(content)) => {
                        of_file(self, &below, content)?;
                        self.meter.file_done();
                    }
                    (_, None) => {}
                }
            }
        }
        Ok(())
    }

    /// The entries of a folder, as far as they can be read.
    fn listing(&mut self, source: &StoreSource<'_>, path: &[u8], listing: &Content) -> Result<Vec<Entry>> {
        let mut entries = Vec::new();
        let read = read_listing(source, listing, &mut |entry| {
            entries.push(entry);
            Ok(())
        });
        match read {
            Err(ClientError::Damaged | ClientError::Format(_)) => {
                self.report.damaged.push(if path.is_empty() { b"/".to_vec() } else { path.to_vec() });
                Ok(entries)
            }
            other => other.map(|()| entries),
        }
    }

    fn names(&self, content: &Content) -> Result<Option<Vec<ChunkName>>> {
        let mut names = Vec::new();
        let source = self.browser.source();
        let expanded = expand_parts(&source, content, &mut |part| {
            names.extend(part.name);
            Ok(())
        });
        match expanded {
            Ok(()) => Ok(Some(names)),
            Err(ClientError::Damaged | ClientError::Format(_)) => Ok(None),
            Err(other) => Err(other),
        }
    }

    fn content(&mut self, content: &Content) -> Result<()> {
        let Some(names) = self.names(content)? else {
            // The page that names the parts is damaged; the second walk says whose it is.
            self.hurt.extend(content.parts.iter().filter_map(|part| part.name));
            return Ok(());
        };
        for name in names {
            if !self.seen.insert(name) {
                continue;
            }
            if (self.chosen)(&name) {
                self.batch.push(name);
            } else {
                self.report.left_out += 1;
            }
            if self.batch.len() == BATCH {
                self.fetch()?;
            }
        }
        Ok(())
    }

    fn fetch(&mut self) -> Result<()> {
        let names = std::mem::take(&mut self.batch);
        let Self { browser, meter, report, hurt, opener, .. } = self;
        if names.is_empty() {
            return Ok(());
        }
        browser.shelf.fetch(&names, |i, sealed| {
            meter.sent(sealed.as_ref().map_or(0, Vec::len) as u64);
            report.chunks += 1;
            match sealed.and_then(|mut sealed| opener.open(&names[i], &mut sealed).ok().map(|content| content.len() as u64)) {
                Some(len) => {
                    report.bytes += len;
                    meter.bytes_done(len);
                }
                None => drop(hurt.insert(names[i])),
            }
            Ok(())
        })
    }

    /// Notes a file if something of it is damaged.
    fn blame(&mut self, path: &[u8], content: &Content) -> Result<()> {
        let of_pages = content.parts.iter().filter_map(|part| part.name).any(|name| self.hurt.contains(&name));
        let is_hurt = of_pages || self.names(content)?.is_none_or(|names| names.iter().any(|name| self.hurt.contains(name)));
        if is_hurt {
            self.report.damaged.push(path.to_vec());
        }
        Ok(())
    }
}
