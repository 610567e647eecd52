//! Bringing a catalogue up to date: each point is compared with what the catalogue knows of the one before. Folders that did not change
//! are not gone into.

use std::collections::{BTreeSet, HashMap};
use std::io;
use std::time::{Duration, Instant};

use jetfrost_image::PointId;
use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_image::tree::ChunkSource;

use super::blocks::{Fact, Folders, Names, ROOT, facts_from_bytes, facts_to_bytes};
use super::file::{Block, CatalogueFile, CataloguedPoint};
use crate::browse::entries_of;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::same_content::number_of;

/// A block ends when it has so many names, or so many bytes of them.
const MOST_NAMES: usize = 16 << 10;
const MOST_BYTES: usize = 512 << 10;
/// Names of the folders in one piece: of what every search reads, all.
const FOLDERS: usize = 16 << 10;
/// Folders that are compared at once: their listings come in one call.
const AT_ONCE: usize = 256;
/// What is done is kept this often.
const KEEP: Duration = Duration::from_secs(10);
/// More blocks than names would need, by this many, are put together.
const SPARE_BLOCKS: usize = 64;

/// Why a catalogue could not be brought up to date.
#[derive(Debug)]
pub(super) enum Failed {
    /// The store could not be read, or the catalogue not written.
    For(ClientError),
    /// The catalogue is not what was written. Another can be made.
    Unreadable,
}

impl From<ClientError> for Failed {
    fn from(error: ClientError) -> Self {
        Self::For(error)
    }
}

impl From<io::Error> for Failed {
    fn from(error: io::Error) -> Self {
        Self::For(ClientError::file("writing", "the catalogue of names")(error))
    }
}

type Result<T> = std::result::Result<T, Failed>;

/// What can be fetched in one call is, before it is asked for.
pub(super) trait Listings: ChunkSource<Error = ClientError> {
    fn fetch_ahead(&self, listings: &[(u32, Content)]) -> std::result::Result<(), ClientError>;
}

/// A catalogue that is brought up to date.
pub(super) struct Update {
    file: CatalogueFile,
    /// What is in it is only read when something changed.
    is_read: bool,
    folders: Folders,
    folders_kept: usize,
    /// The number of each folder by the one that it is in, and its name.
    numbers: HashMap<(u32, Vec<u8>), u32>,
    /// The names of all blocks.
    names: Vec<Names>,
    /// Those that are in no block yet.
    open: (Names, Vec<Fact>),
    kept: Instant,
}

impl Update {
    /// Goes on with a catalogue.
    pub(super) fn of(file: CatalogueFile) -> Self {
        Self {
            file,
            is_read: false,
            folders: Folders::default(),
            folders_kept: 1,
            numbers: HashMap::new(),
            names: Vec::new(),
            open: Default::default(),
            kept: Instant::now(),
        }
    }

    fn read(&mut self) -> Result<()> {
        if self.is_read {
            return Ok(());
        }
        let (file, mut opener) = (&self.file, self.file.opener());
        self.folders = super::folders_of(file, &mut opener).ok_or(Failed::Unreadable)?;
        self.folders_kept = self.folders.len();
        let read = |block: &Block| Names::from_bytes(&file.read(&block.names, &mut opener)?);
        self.names = file.head.blocks.iter().map(read).collect::<Option<_>>().ok_or(Failed::Unreadable)?;
        let numbered = (0..).zip(self.folders.all()).skip(1);
        self.numbers = numbered.map(|(number, (parent, name))| ((parent, name.to_vec()), number)).collect();
        self.is_read = true;
        Ok(())
    }

    /// Takes in a point that comes after all that are in it.
    pub(super) fn take_in(
        &mut self,
        source: &impl Listings,
        (sequence, id): (u64, PointId),
        root: &Content,
        meter: &Meter,
    ) -> Result<()> {
        let version = number_of(root);
        let mut unread = 0;
        if version != self.file.head.root {
            self.read()?;
            unread = self.compare(source, sequence, root, meter)?;
            self.file.head.root = version;
        }
        self.file.head.points.push(CataloguedPoint { sequence, id: id.0, unread });
        if self.kept.elapsed() > KEEP { self.keep() } else { Ok(()) }
    }

    /// Passes over a point that cannot be read.
    pub(super) fn pass_over(&mut self, sequence: u64) {
        self.file.head.unreadable.push(sequence);
    }

    /// Keeps it, without what is only of points that are no more.
    pub(super) fn finish(mut self, live: &BTreeSet<u64>) -> Result<CatalogueFile> {
        self.file.head.points.retain(|point| live.contains(&point.sequence));
        self.file.head.unreadable.retain(|point| live.contains(point));
        self.end_block()?;
        if self.is_worth_compacting() {
            self.read()?;
            self = self.compacted(live)?;
        }
        self.keep()?;
        Ok(self.file)
    }

    /// Compares the folders of a point with what is known. Returns how many could not be read.
    fn compare(&mut self, source: &impl Listings, point: u64, root: &Content, meter: &Meter) -> Result<u32> {
        // Folders from here on are new: nothing is known of what is in them.
        let first_new = self.folders.len();
        let (mut folders, mut gone, mut unread) = (vec![(ROOT, root.clone())], Vec::new(), 0);
        while !folders.is_empty() {
            if meter.is_stopped() {
                return Err(ClientError::Stopped.into());
            }
            let some = folders.split_off(folders.len().saturating_sub(AT_ONCE));
            source.fetch_ahead(&some)?;
            let mut known = self.known_in(some.iter().map(|(folder, _)| *folder).filter(|at| (*at as usize) < first_new))?;
            for (folder, listing) in some {
                let mut before = known.remove(&folder).unwrap_or_default();
                let (entries, read) = entries_of(source, &listing);
                for entry in &entries {
                    meter.file_done();
                    let (now, was) = (fact(entry, point), before.remove(&entry.name));
                    if was.is_some_and(|was| (was.kind, was.version) == (now.kind, now.version)) {
                        continue;
                    }
                    self.push(folder, &entry.name, now)?;
                    match (&entry.content, is_folder(now)) {
                        (Some(listing), true) => folders.push((self.number(folder, &entry.name), listing.clone())),
                        _ if was.is_some_and(is_folder) => gone.push(self.number(folder, &entry.name)),
                        _ => {}
                    }
                }
                match read {
                    Ok(()) => gone.extend(self.all_gone(folder, before, point)?),
                    // What is not told of is not gone.
                    Err(error) if error.is_loss() => unread += 1,
                    Err(error) => return Err(error.into()),
                }
            }
        }
        while !gone.is_empty() {
            let some = gone.split_off(gone.len().saturating_sub(AT_ONCE));
            for (folder, before) in self.known_in(some.into_iter())? {
                gone.extend(self.all_gone(folder, before, point)?);
            }
        }
        Ok(unread)
    }

    /// Notes that names are gone. Returns the folders among them.
    fn all_gone(&mut self, folder: u32, names: HashMap<Vec<u8>, Fact>, point: u64) -> Result<Vec<u32>> {
        let mut folders = Vec::new();
        for (name, was) in names {
            self.push(folder, &name, Fact { point, kind: None, len: 0, modified: 0, version: 0 })?;
            if is_folder(was) {
                folders.push(self.number(folder, &name));
            }
        }
        Ok(folders)
    }

    /// What is in folders by now, as far as it is known.
    fn known_in(&mut self, folders: impl Iterator<Item = u32>) -> Result<HashMap<u32, HashMap<Vec<u8>, Fact>>> {
        let mut known = HashMap::<u32, HashMap<Vec<u8>, Fact>>::new();
        let mut is_wanted = vec![false; self.folders.len()];
        for folder in folders {
            is_wanted[folder as usize] = true;
            known.insert(folder, HashMap::new());
        }
        if known.is_empty() {
            return Ok(known);
        }
        let mut opener = self.file.opener();
        let wanted = |names: &Names| names.folders().iter().any(|folder| is_wanted.get(*folder as usize) == Some(&true));
        let mut note = |names: &Names, facts: &[Fact]| {
            for (at, folder) in names.folders().iter().enumerate() {
                let Some(in_it) = known.get_mut(folder) else { continue };
                match facts[at].kind {
                    Some(_) => in_it.insert(names.name(at).to_vec(), facts[at]),
                    None => in_it.remove(names.name(at)),
                };
            }
        };
        for (names, block) in self.names.iter().zip(&self.file.head.blocks).filter(|(names, _)| wanted(names)) {
            note(names, &facts_of(&self.file, block, &mut opener).ok_or(Failed::Unreadable)?);
        }
        note(&self.open.0, &self.open.1);
        Ok(known)
    }

    /// The number of a folder in a folder.
    fn number(&mut self, parent: u32, name: &[u8]) -> u32 {
        let folders = &mut self.folders;
        *self.numbers.entry((parent, name.to_vec())).or_insert_with(|| folders.push(parent, name))
    }

    fn push(&mut self, folder: u32, name: &[u8], fact: Fact) -> Result<()> {
        self.open.0.push(folder, name);
        self.open.1.push(fact);
        if self.open.0.len() >= MOST_NAMES || self.open.0.bytes() >= MOST_BYTES { self.end_block() } else { Ok(()) }
    }

    fn end_block(&mut self) -> Result<()> {
        let (names, facts) = std::mem::take(&mut self.open);
        if facts.is_empty() {
            return Ok(());
        }
        let len = u32::try_from(facts.len()).expect("a block ends long before");
        let (at, facts) = (self.file.add(&names.to_bytes())?, self.file.add(&facts_to_bytes(&facts))?);
        self.file.head.blocks.push(Block { len, names: at, facts });
        self.names.push(names);
        Ok(())
    }

    fn keep(&mut self) -> Result<()> {
        self.end_block()?;
        while self.folders_kept < self.folders.len() {
            let to = self.folders.len().min(self.folders_kept + FOLDERS);
            let piece = self.file.add(&self.folders.between(self.folders_kept, to).to_bytes())?;
            self.file.head.folders.push(piece);
            self.folders_kept = to;
        }
        self.file.keep()?;
        self.kept = Instant::now();
        Ok(())
    }

    /// Whether much of it is of points that are no more, or it is in many small blocks.
    fn is_worth_compacting(&self) -> bool {
        let (names, head) = (self.file.head.names(), &self.file.head);
        let needed = usize::try_from(names).unwrap_or(usize::MAX) / (MOST_NAMES / 4);
        names > 2 * head.names_at_first.max(MOST_NAMES as u64) || head.blocks.len() > needed + SPARE_BLOCKS
    }

    /// Another catalogue, with what is of points that there are, and what there is by now.
    fn compacted(self, live: &BTreeSet<u64>) -> Result<Self> {
        let mut opener = self.file.opener();
        let facts: Option<Vec<Vec<Fact>>> =
            self.file.head.blocks.iter().map(|block| facts_of(&self.file, block, &mut opener)).collect();
        let facts = facts.ok_or(Failed::Unreadable)?;
        let all = self.names.iter().zip(&facts);
        let mut all: Vec<(u32, &[u8], Fact)> = all
            .flat_map(|(names, facts)| (0..names.len()).map(move |at| (names.folders()[at], names.name(at), facts[at])))
            .collect();
        // What became of one name stays in its order.
        all.sort_by(|one, other| (one.0, one.1).cmp(&(other.0, other.1)));
        let mut file = self.file.begin_anew()?;
        (file.head.points, file.head.root) = (self.file.head.points.clone(), self.file.head.root);
        file.head.unreadable.clone_from(&self.file.head.unreadable);
        let mut new = Self { is_read: true, folders: self.folders, numbers: self.numbers, ..Self::of(file) };
        for of_one in all.chunk_by(|one, other| (one.0, one.1) == (other.0, other.1)) {
            let mut is_there = false;
            for (at, (folder, name, fact)) in of_one.iter().enumerate() {
                let next = of_one.get(at + 1).map(|(.., next)| next.point);
                let is_needed = match fact.kind {
                    None => is_there,
                    Some(_) => next.is_none_or(|next| live.range(fact.point..next).next().is_some()),
                };
                if is_needed {
                    new.push(*folder, name, *fact)?;
                    is_there = fact.kind.is_some();
                }
            }
        }
        new.end_block()?;
        new.file.head.names_at_first = new.file.head.names();
        Ok(new)
    }
}

/// What is known of the names of a block.
pub(super) fn facts_of(file: &CatalogueFile, block: &Block, opener: &mut jetfrost_image::crypto::Opener) -> Option<Vec<Fact>> {
    facts_from_bytes(&file.read(&block.facts, opener)?).filter(|facts| facts.len() == block.len as usize)
}

fn is_folder(fact: Fact) -> bool {
    fact.kind == Some(EntryKind::Directory)
}

fn fact(entry: &Entry, point: u64) -> Fact {
    let version = match entry.kind {
        EntryKind::Directory => number_of(&entry.content),
        _ => number_of((&entry.content, &entry.target, entry.mtime, entry.mtime_nanos)),
    };
    Fact { point, kind: Some(entry.kind), len: entry.len(), modified: entry.mtime, version }
}
