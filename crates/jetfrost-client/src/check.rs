//! The deep check: with the key, that everything a point needs comes, decrypts and is what its name says.

use std::collections::HashSet;
use std::sync::Arc;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Opener, random_array};
use jetfrost_image::format::{Content, EntryKind};
use jetfrost_image::tree::expand_parts;

use crate::browse::{Browser, OpenPoint};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::walk_tree::{Met, go_through};

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
        damaged: HashSet::new(),
        opener: Opener::new(browser.keys.clone()),
    };
    check.walk(&point.body.root, |check, _, content| check.content(content))?;
    check.fetch()?;
    if !check.damaged.is_empty() {
        // Which files a damaged chunk touches is looked up only when there is one.
        check.report.entries = 0;
        check.report.damaged.clear();
        check.walk(&point.body.root, Check::blame)?;
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
    damaged: HashSet<ChunkName>,
    opener: Opener,
}

impl Check<'_> {
    /// Goes through all folders; `of_file` gets every file's path and content.
    fn walk(&mut self, root: &Content, of_file: fn(&mut Self, &[u8], &Content) -> Result<()>) -> Result<()> {
        let (browser, meter) = (self.browser, self.meter);
        go_through(browser, root, meter, |met| {
            let (path, entry) = match met {
                Met::Entry(path, entry) => (path, entry),
                Met::DamagedFolder(path) => {
                    self.report.damaged.push(path.to_vec());
                    return Ok(());
                }
            };
            self.report.entries += 1;
            entry.attribute_contents().try_for_each(|value| of_file(self, path, value))?;
            match &entry.content {
                Some(content) if entry.kind != EntryKind::Directory => {
                    of_file(self, path, content)?;
                    meter.file_done();
                    Ok(())
                }
                _ => Ok(()),
            }
        })
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
            self.damaged.extend(content.parts.iter().filter_map(|part| part.name));
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
        let Self { browser, meter, report, damaged, opener, .. } = self;
        if names.is_empty() {
            return Ok(());
        }
        browser.source.fetch(&names, |i, sealed| {
            meter.sent(sealed.as_ref().map_or(0, |sealed| sealed.len()) as u64);
            report.chunks += 1;
            match sealed.and_then(|sealed| opener.open(&names[i], sealed).ok().map(|content| content.len() as u64)) {
                Some(len) => {
                    report.bytes += len;
                    meter.bytes_done(len);
                }
                None => drop(damaged.insert(names[i])),
            }
            Ok(())
        })
    }

    /// Notes a file if something of it is damaged.
    fn blame(&mut self, path: &[u8], content: &Content) -> Result<()> {
        let of_pages = content.parts.iter().filter_map(|part| part.name).any(|name| self.damaged.contains(&name));
        let is_damaged =
            of_pages || self.names(content)?.is_none_or(|names| names.iter().any(|name| self.damaged.contains(name)));
        if is_damaged {
            self.report.damaged.push(path.to_vec());
        }
        Ok(())
    }
}
