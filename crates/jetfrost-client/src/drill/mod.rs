//! A drill: a rehearsal of a restore. Some files are drawn, brought back for real, read back from where they were put, and
//! compared with the point and with what is still at its place on this machine.

mod disks;
mod near_damage;
mod proven;

use std::collections::HashSet;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use std::{fs, io};

use jetfrost_image::crypto::random_array;
use jetfrost_image::format::{Entry, EntryKind};
use jetfrost_platform::{FileKind, Paths, System, path_of};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::{Phase, Progress};

use crate::browse::{Browser, OpenPoint};
use crate::entries::modified;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::restore::{NotRestored, Rights, Sample, Trouble, Troubles, Wish, put_back};
use crate::salvage::check_room;
use crate::same_content::{is_content, number_of};
use crate::walk_tree::{Met, go_through};

pub use disks::{DiskDrillReport, DrilledDisk, drill_disks};
use near_damage::NearDamage;
use proven::Proven;

type Result<T> = std::result::Result<T, ClientError>;

/// So many files are drawn at least, of a point that has as many: a small share of few files would prove nothing.
const AT_LEAST: u64 = 20;

/// How files are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Drawing {
    /// At random, each as likely as any other.
    AtRandom,
    /// Where the risk is largest: what no drill has brought back yet, half of it what changed last; and up to a third of what lay near damage
    /// in the image store and was not brought back since.
    Unproven,
}

impl Drawing {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::AtRandom => "at_random",
            Self::Unproven => "unproven",
        }
    }
}

/// How a drill is done.
#[derive(Debug, Clone)]
pub struct Rehearsal {
    /// How many files of a hundred are drawn, 1 to 100.
    pub share: u8,
    /// About so many bytes are brought back at most; larger files are never drawn.
    pub most: u64,
    /// Where they are put meanwhile. A directory is made in there, and goes again.
    pub scratch: PathBuf,
    /// Where it is remembered what drills brought back: then they draw at random and what is unproven by turns.
    pub memory: Option<PathBuf>,
}

impl Rehearsal {
    /// In hundredths of the files.
    pub const USUAL_SHARE: u8 = 5;
    /// In bytes.
    pub const USUAL_MOST: u64 = 2_000_000_000;

    /// Where a state directory remembers what drills brought back.
    #[must_use]
    pub fn memory_in(state_directory: &Path) -> PathBuf {
        state_directory.join("proven")
    }

    /// A twentieth of the files, 2 GB at most, put beside the settings in a state directory meanwhile.
    #[must_use]
    pub fn usual(scratch: &Path) -> Self {
        Self { share: Self::USUAL_SHARE, most: Self::USUAL_MOST, scratch: scratch.into(), memory: Some(Self::memory_in(scratch)) }
    }
}

/// What a drill came to.
#[derive(Debug)]
pub struct DrillReport {
    /// How far it came: files and bytes brought back.
    pub progress: Progress,
    /// Files that were compared with those still at their place, unchanged since the point.
    pub compared_here: u64,
    /// What did not come back as it was.
    pub troubles: Vec<NotRestored>,
    /// How the files were drawn.
    pub drawing: Drawing,
    /// Files that lay near damage in the image store, and came back as they were.
    pub near_damage: u64,
    /// How long it took.
    pub took: Duration,
}

/// Rehearses a restore of a point, and puts it on record.
///
/// # Errors
/// [`ClientError`] when it could not be done at all, among it [`ClientError::NothingDrawn`] and
/// [`ClientError::NoRoomToWrite`]; what did not come back is in the report.
pub fn drill(browser: &Browser, point: &OpenPoint, how: &Rehearsal, meter: &Arc<Meter>) -> Result<DrillReport> {
    let started = Instant::now();
    // What stands in the way before anything is brought back says nothing of the point, and is not put on record.
    let can_be_drawn = drawn(browser, point, &Sample::new([0; 32], 1.0, how.most), meter)?;
    let near = NearDamage::of(&browser.source)?;
    let mut proven = how.memory.as_ref().map(|at| Proven::read(at));
    let unproven = match &mut proven {
        Some(proven) if how.share < 100 && proven.next() == Drawing::Unproven => {
            unproven(browser, point, how, proven, &near, can_be_drawn.0, meter)?
        }
        _ => None,
    };
    let drawing = if unproven.is_some() { Drawing::Unproven } else { Drawing::AtRandom };
    let sample = unproven.unwrap_or_else(|| sample(can_be_drawn, how));
    let (files, bytes) = drawn(browser, point, &sample, meter)?;
    // Empty files alone are brought back from nothing, and prove nothing, unless there are no others.
    if files == 0 || (bytes == 0 && point.head.bytes > 0) {
        return Err(ClientError::NothingDrawn);
    }
    check_room(&how.scratch, bytes)?;
    meter.expect(files, bytes);
    let scope = if how.share == 100 { Scope::Everything } else { Scope::Selection };
    let begin = BeginRestore { point: point.head.sequence, scope, purpose: Purpose::Drill, target: None, order: None };
    let record = browser.source.begin_restore(&begin, meter)?;
    let result = rehearse(browser, point, &how.scratch, &sample, &near, meter);
    let (came, not_on_record) = record.end(result, meter, |came| came.troubles.len() as u64)?;
    // A drill that is not on record proves nothing to anybody.
    not_on_record.map_or(Ok(()), Err)?;
    if let (Some(proven), Some(at)) = (&mut proven, &how.memory) {
        proven.add(drawing, came.contents);
        // The drill stands. What is not remembered is drawn once more.
        let _ = proven.keep(at);
    }
    let Came { compared_here, near_damage, troubles, .. } = came;
    Ok(DrillReport { progress: meter.progress(), compared_here, troubles, drawing, near_damage, took: started.elapsed() })
}

/// What came of a rehearsal.
struct Came {
    /// Files that were also compared with those at their place.
    compared_here: u64,
    /// Files that lay near damage and came back.
    near_damage: u64,
    /// What did not come back as it was.
    troubles: Vec<NotRestored>,
    /// The contents that did, by their numbers, and by those that say near which damage they lay.
    contents: Vec<u64>,
}

/// Brings back what is drawn and compares it.
fn rehearse(
    browser: &Browser,
    point: &OpenPoint,
    within: &Path,
    sample: &Sample,
    near: &NearDamage,
    meter: &Arc<Meter>,
) -> Result<Came> {
    let scratch = tempfile::Builder::new().prefix(".jetfrost-drill-").tempdir_in(within);
    let scratch = scratch.map_err(ClientError::file("making a directory in", within))?;
    meter.enter(Phase::Sending);
    let troubles = Troubles::default();
    let wish = Wish::everything(scratch.path()).rights(Rights::Keep);
    put_back(browser, point, &wish, Some(sample.clone()), meter, &troubles)?;
    meter.enter(Phase::Comparing);
    let (root, told_of) = (scratch.path(), troubles.paths());
    let mut comparison = Comparison {
        browser,
        root,
        told: told_of,
        near,
        troubles: &troubles,
        compared_here: 0,
        near_damage: 0,
        contents: Vec::new(),
    };
    go_through(browser, &point.body.root, meter, |met| match met {
        Met::Entry(path, entry) if entry.kind != EntryKind::Directory && sample.takes(path, entry) => {
            comparison.compare(path, entry)
        }
        // Damaged folders were told when they were to be brought back.
        Met::Entry(..) | Met::DamagedFolder(_) => Ok(()),
    })?;
    let Comparison { compared_here, near_damage, contents, .. } = comparison;
    Ok(Came { compared_here, near_damage, troubles: told(troubles.take(), scratch.path()), contents })
}

/// The troubles under the paths that people know. That a file kept changing while it was backed up is no fault of the restore, nor
/// that the place of a rehearsal does not take an attribute that came back.
fn told(troubles: Vec<NotRestored>, root: &Path) -> Vec<NotRestored> {
    let known = |trouble: NotRestored| match trouble.path.strip_prefix(root) {
        Ok(within) => NotRestored { path: Path::new("/").join(within), ..trouble },
        Err(_) => trouble,
    };
    let is_fault = |trouble: &NotRestored| ![Trouble::Unsettled, Trouble::Unsupported].contains(&trouble.trouble);
    troubles.into_iter().filter(is_fault).map(known).collect()
}

/// Draws among the files that can be drawn, of which there are so many with so many bytes: what is too large for a drill does
/// not count, else a single large file would leave no share for the others.
fn sample((files, bytes): (u64, u64), how: &Rehearsal) -> Sample {
    let seed = random_array(&crate::system_random());
    let share = f64::from(how.share) / 100.0;
    let at_least = AT_LEAST as f64 / files.max(1) as f64;
    let at_most = how.most as f64 / bytes.max(1) as f64;
    Sample::new(seed, share.max(at_least).min(at_most), how.most)
}

/// A file that no drill has brought back, or none since something near it was damaged.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Candidate {
    content: u64,
    bytes: u64,
    modified: i64,
    near_damage: bool,
}

/// Draws among what no drill has brought back. Where everything was brought back once, all of it counts as unproven again. None where there is
/// nothing to be drawn.
fn unproven(
    browser: &Browser,
    point: &OpenPoint,
    how: &Rehearsal,
    proven: &mut Proven,
    near: &NearDamage,
    files: u64,
    meter: &Meter,
) -> Result<Option<Sample>> {
    let mut candidates = candidates(browser, point, how, proven, near, meter)?;
    if candidates.is_empty() {
        proven.forget();
        candidates = self::candidates(browser, point, how, proven, near, meter)?;
    }
    let wanted = (files * u64::from(how.share) / 100).max(AT_LEAST);
    let random = crate::system_random();
    let drawn = choose(candidates, usize::try_from(wanted).unwrap_or(usize::MAX), &mut |below| crate::below(below, &random));
    let mut bytes = 0_u64;
    let fits = |candidate: &Candidate| {
        let fits = candidate.bytes <= how.most - bytes;
        bytes += if fits { candidate.bytes } else { 0 };
        fits
    };
    let contents: HashSet<u64> = drawn.into_iter().filter(fits).map(|candidate| candidate.content).collect();
    Ok((!contents.is_empty()).then(|| Sample::These(Arc::new(contents))))
}

/// A third of what lay near damage, as far as there is so much; of the rest one half what changed last, the other at random. `random` gives
/// a number below another.
fn choose(candidates: Vec<Candidate>, wanted: usize, random: &mut dyn FnMut(usize) -> usize) -> Vec<Candidate> {
    let wanted = wanted.min(candidates.len());
    let (mut near, mut others): (Vec<_>, Vec<_>) = candidates.into_iter().partition(|candidate| candidate.near_damage);
    let mut drawn = Vec::new();
    let mut take = |from: &mut Vec<Candidate>, until: usize| {
        while drawn.len() < until && !from.is_empty() {
            drawn.push(from.swap_remove(random(from.len())));
        }
        drawn.len()
    };
    // Where there are not enough others, more of these.
    let so_many = take(&mut near, wanted.div_ceil(3).max(wanted.saturating_sub(others.len())));
    others.sort_by_key(|candidate| std::cmp::Reverse(candidate.modified));
    let newest = (wanted - so_many).div_ceil(2).min(others.len());
    let mut rest = others.split_off(newest);
    take(&mut others, so_many + newest);
    take(&mut rest, wanted);
    drawn
}

fn candidates(
    browser: &Browser,
    point: &OpenPoint,
    how: &Rehearsal,
    proven: &Proven,
    near: &NearDamage,
    meter: &Meter,
) -> Result<Vec<Candidate>> {
    let mut candidates = Vec::new();
    go_through(browser, &point.body.root, meter, |met| {
        if let Met::Entry(_, entry) = met
            && entry.kind == EntryKind::File
            && let Some(content) = entry.content.as_ref().filter(|content| (1..=how.most).contains(&content.len))
        {
            let number = number_of(content);
            let near_damage = near.mark(browser, content)?.is_some_and(|mark| !proven.contents.contains(&mark));
            if near_damage || !proven.contents.contains(&number) {
                candidates.push(Candidate { content: number, bytes: content.len, modified: entry.mtime, near_damage });
            }
        }
        Ok(())
    })?;
    Ok(candidates)
}

/// Files that are drawn, and their bytes.
fn drawn(browser: &Browser, point: &OpenPoint, sample: &Sample, meter: &Meter) -> Result<(u64, u64)> {
    let (mut files, mut bytes) = (0, 0);
    go_through(browser, &point.body.root, meter, |met| {
        if let Met::Entry(path, entry) = met
            && entry.kind == EntryKind::File
            && sample.takes(path, entry)
        {
            files += 1;
            bytes += entry.len();
        }
        Ok(())
    })?;
    Ok((files, bytes))
}

/// Compares what was brought back with what it should be.
struct Comparison<'c> {
    browser: &'c Browser,
    /// Where everything was put.
    root: &'c Path,
    /// What did not come back, and needs no comparing.
    told: HashSet<PathBuf>,
    near: &'c NearDamage,
    troubles: &'c Troubles,
    compared_here: u64,
    near_damage: u64,
    contents: Vec<u64>,
}

impl Comparison<'_> {
    fn compare(&mut self, path: &[u8], entry: &Entry) -> Result<()> {
        let shown = &path_of(path);
        let back = self.root.join(shown.strip_prefix("/").unwrap_or(shown));
        if self.told.contains(&back) {
            return Ok(());
        }
        let differs = match self.difference(&back, entry)? {
            Some(what) => Some(what),
            None if entry.kind == EntryKind::File => self.difference_here(&back, shown, entry).map(str::to_owned),
            None => None,
        };
        match (differs, &entry.content) {
            (Some(what), _) => self.troubles.add(shown, Trouble::Differs, what),
            (None, Some(content)) => {
                let mark = self.near.mark(self.browser, content)?;
                self.near_damage += u64::from(mark.is_some());
                self.contents.extend([number_of(content)].into_iter().chain(mark));
            }
            (None, None) => {}
        }
        Ok(())
    }

    /// What is not as the point says, in words.
    fn difference(&self, back: &Path, entry: &Entry) -> Result<Option<String>> {
        let found = match System::metadata_of(back) {
            Ok(found) => found,
            Err(error) => return Ok(Some(format!("it is not there: {error}"))),
        };
        if entry.kind == EntryKind::Symlink {
            let target = fs::read_link(back).ok().map(|target| target.into_os_string().into_encoded_bytes());
            let same = target.as_deref() == entry.target.as_ref().map(|target| &target[..]);
            return Ok((!same).then(|| "the link points elsewhere".into()));
        }
        if found.mode != entry.mode {
            return Ok(Some("its permissions are others".into()));
        }
        if found.modified != modified(entry) {
            return Ok(Some("its time is another".into()));
        }
        if entry.kind != EntryKind::File {
            return Ok(None);
        }
        if found.size != entry.len() {
            return Ok(Some(format!("it has {} bytes instead of {}", found.size, entry.len())));
        }
        self.content_differs(back, entry)
    }

    fn content_differs(&self, back: &Path, entry: &Entry) -> Result<Option<String>> {
        let Some(content) = &entry.content else { return Ok(None) };
        let mut file = match File::open(back) {
            Ok(file) => file,
            Err(error) => return Ok(Some(format!("it cannot be read: {error}"))),
        };
        Ok(match is_content(&self.browser.keys, &self.browser.source(), &mut file, content)? {
            Ok(true) => None,
            Ok(false) => Some("its content is another".into()),
            Err(error) => Some(format!("it cannot be read: {error}")),
        })
    }

    /// What differs from the file at its place, if that was not changed since the point was made.
    fn difference_here(&mut self, back: &Path, here: &Path, entry: &Entry) -> Option<&'static str> {
        let unchanged = self.browser.source.is_own()
            && System::metadata_of(here).is_ok_and(|found| {
                found.kind == Some(FileKind::File) && found.size == entry.len() && found.modified == modified(entry)
            });
        let same = if unchanged { same_bytes(back, here).ok()? } else { return None };
        self.compared_here += 1;
        (!same).then_some("the file at its place has the same size and time, and another content: see which of them is right")
    }
}

/// Whether two files hold the same.
fn same_bytes(one: &Path, other: &Path) -> io::Result<bool> {
    let (mut one, mut other) = (BufReader::new(File::open(one)?), File::open(other)?);
    let (mut ours, mut theirs) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    loop {
        let n = one.read(&mut ours)?;
        if n == 0 {
            return Ok(other.read(&mut theirs)? == 0);
        }
        match other.read_exact(&mut theirs[..n]) {
            Ok(()) if ours[..n] == theirs[..n] => {}
            Ok(()) => return Ok(false),
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(error) => return Err(error),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn as_many_are_drawn_as_there_are_and_of_what_lay_near_damage_a_third(near in 0_usize..60, others in 0_usize..60, wanted in 0_usize..90) {
            let all: Vec<Candidate> = (0..near + others)
                .map(|i| Candidate { content: i as u64, bytes: 1, modified: i as i64, near_damage: i < near })
                .collect();
            let mut seed = 7_usize;
            let drawn = choose(all.clone(), wanted, &mut |below| {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                (seed >> 33) % below
            });
            let different: HashSet<u64> = drawn.iter().map(|candidate| candidate.content).collect();
            let expected = wanted.min(all.len());
            prop_assert_eq!((drawn.len(), different.len()), (expected, expected));
            let drawn_near = drawn.iter().filter(|candidate| candidate.near_damage).count();
            prop_assert_eq!(drawn_near, near.min(expected.div_ceil(3).max(expected.saturating_sub(others))));
            // Of the others at least half are the newest.
            let drawn_others = expected - drawn_near;
            let newest: HashSet<u64> = all.iter().rev().take(drawn_others.div_ceil(2).min(others)).map(|it| it.content).collect();
            prop_assert!(newest.is_subset(&different));
        }
    }
}
