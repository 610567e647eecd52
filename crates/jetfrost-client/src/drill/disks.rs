//! A drill of disks: extents that are drawn are brought back, written, read again and compared; what a partition table and file systems say of
//! themselves is opened as whoever restores the disk would find it.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Opener, random_array};
use jetfrost_image::tree::expand_parts;
use jetfrost_platform::{FileKind, Paths, System, path_of};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::{Phase, Progress};

use super::near_damage::NearDamage;
use super::{Rehearsal, Result};
use crate::browse::{Browser, OpenPoint};
use crate::content_reader::ContentReader;
use crate::disk::file_systems::{Found, look_into};
use crate::disk::partitions::Table;
use crate::disk::{Disk, DiskBytes};
use crate::entries::modified;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::restore::{NotRestored, Trouble};
use crate::salvage::check_room;

/// So many extents are drawn at least, of a disk that has as many.
const AT_LEAST: u64 = 20;
/// Extents that are fetched together, a mebibyte each at most.
const TOGETHER: usize = 16;

/// What a drill of disks came to.
#[derive(Debug)]
pub struct DiskDrillReport {
    /// How far it came: disks, and bytes brought back.
    pub progress: Progress,
    /// What was found of each disk.
    pub disks: Vec<DrilledDisk>,
    /// What did not come back as it was.
    pub troubles: Vec<NotRestored>,
    /// How long it took.
    pub took: Duration,
}

/// What a drill found of a disk.
#[derive(Debug)]
pub struct DrilledDisk {
    /// Its path.
    pub path: PathBuf,
    /// Extents that were brought back.
    pub extents: u64,
    /// Extents that hold anything.
    pub of: u64,
    /// Those of the extents brought back that lay near damage in the image store.
    pub near_damage: u64,
    /// Extents that were compared with the image file at its place, unchanged since the point.
    pub compared_here: u64,
    /// Its partition table, if it has one.
    pub table: Option<Table>,
    /// What was found in its partitions, or on the whole disk.
    pub file_systems: Vec<Found>,
}

/// Rehearses a restore of the disks of a point, and puts it on record.
///
/// # Errors
/// As [`drill`](super::drill).
pub fn drill_disks(browser: &Browser, point: &OpenPoint, how: &Rehearsal, meter: &Arc<Meter>) -> Result<DiskDrillReport> {
    let started = Instant::now();
    // A disk whose place cannot be read is damage, and is found by the listing.
    let disks = browser.disks(point)?;
    let share = f64::from(how.share) / 100.0;
    let most = how.most / (disks.len() as u64).max(1);
    let near = NearDamage::of(&browser.source)?;
    let drawn: Vec<_> = disks.into_iter().map(|disk| draw(browser, disk, &near, share, most)).collect::<Result<_>>()?;
    let bytes: u64 = drawn.iter().map(|drawn| drawn.bytes).sum();
    if bytes == 0 {
        return Err(ClientError::NothingDrawn);
    }
    check_room(&how.scratch, drawn.iter().map(|drawn| drawn.bytes).max().unwrap_or(0))?;
    meter.expect(drawn.len() as u64, bytes);
    let begin =
        BeginRestore { point: point.head.sequence, scope: Scope::Selection, purpose: Purpose::Drill, target: None, order: None };
    let record = browser.source.begin_restore(&begin, meter)?;
    meter.enter(Phase::Sending);
    let mut troubles = Vec::new();
    let result =
        drawn.into_iter().map(|drawn| rehearse(browser, drawn, &how.scratch, meter, &mut troubles)).collect::<Result<_>>();
    let (disks, not_on_record) = record.end(result, meter, |_| troubles.len() as u64)?;
    // A drill that is not on record proves nothing to anybody.
    not_on_record.map_or(Ok(()), Err)?;
    Ok(DiskDrillReport { progress: meter.progress(), disks, troubles, took: started.elapsed() })
}

/// An extent that holds something: where it begins, its length, its chunk, and whether that lay near damage.
#[derive(Debug, Clone, Copy)]
struct Extent {
    at: u64,
    len: u64,
    name: ChunkName,
    near_damage: bool,
}

/// A disk, and what is drawn of it.
struct Drawn {
    disk: Disk,
    extents: Vec<Extent>,
    of: u64,
    bytes: u64,
}

/// Draws among the extents that hold something, each as likely as any other, but of those that lay near damage as many as half of what may be
/// drawn has room for. The list of a large disk's extents is gone through twice, and never held.
fn draw(browser: &Browser, disk: Disk, near: &NearDamage, share: f64, most: u64) -> Result<Drawn> {
    let Some(content) = disk.entry.content.clone() else { return Ok(Drawn { disk, extents: Vec::new(), of: 0, bytes: 0 }) };
    let each = |take: &mut dyn FnMut(Extent)| {
        let mut at = 0;
        expand_parts(&browser.source(), &content, &mut |part| {
            if let Some(name) = part.name {
                take(Extent { at, len: part.len, name, near_damage: near.has(&name) });
            }
            at += part.len;
            Ok::<_, ClientError>(())
        })
    };
    let (mut of, mut all, mut all_near) = (0_u64, 0_u64, 0_u64);
    each(&mut |extent| {
        of += 1;
        all += extent.len;
        all_near += if extent.near_damage { extent.len } else { 0 };
    })?;
    let share_near = (most as f64 / 2.0 / all_near.max(1) as f64).min(1.0);
    let rest = most as f64 - all_near as f64 * share_near;
    let share = share.max(AT_LEAST as f64 / of.max(1) as f64).min(rest / (all - all_near).max(1) as f64);
    let seed: [u8; 32] = random_array(&crate::system_random());
    let mut extents = Vec::new();
    each(&mut |extent| {
        let number = blake3::keyed_hash(&seed, &extent.at.to_le_bytes());
        let number = u64::from_le_bytes(*number.as_bytes().first_chunk().expect("it has 32"));
        let share = if extent.near_damage { share_near } else { share };
        if number as f64 <= share * u64::MAX as f64 {
            extents.push(extent);
        }
    })?;
    let bytes = extents.iter().map(|extent| extent.len).sum();
    Ok(Drawn { disk, extents, of, bytes })
}

/// Brings back what is drawn of a disk, one extent behind the other, reads it again, and opens what is on the disk.
fn rehearse(
    browser: &Browser,
    drawn: Drawn,
    within: &Path,
    meter: &Arc<Meter>,
    troubles: &mut Vec<NotRestored>,
) -> Result<DrilledDisk> {
    let Drawn { disk, extents, of, .. } = drawn;
    let path = path_of(&disk.path);
    let failed = || ClientError::file("writing in", within);
    let mut scratch = tempfile::tempfile_in(within).map_err(failed())?;
    let mut tell = |explanation: String, trouble| troubles.push(NotRestored { path: path.clone(), trouble, explanation });
    let mut written = Vec::new();
    for extents in extents.chunks(TOGETHER) {
        if meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        for (extent, content) in bring_back(browser, extents)? {
            match content {
                Some(content) => {
                    scratch.write_all(&content).map_err(failed())?;
                    meter.bytes_done(extent.len);
                    written.push(extent);
                }
                None => tell(format!("{} bytes at {} are damaged or missing", extent.len, extent.at), Trouble::Damaged),
            }
        }
    }
    scratch.sync_data().and_then(|()| scratch.seek(SeekFrom::Start(0))).map_err(failed())?;
    meter.enter(Phase::Comparing);
    let mut here = browser.source.is_own().then(|| unchanged_here(&path, &disk)).flatten();
    let mut compared_here = 0;
    for extent in &written {
        let mut content = vec![0; usize::try_from(extent.len).expect("an extent is a mebibyte at most")];
        scratch.read_exact(&mut content).map_err(failed())?;
        if browser.keys.name(&content) != extent.name {
            tell(
                format!("{} bytes at {} were read back otherwise than they were written", extent.len, extent.at),
                Trouble::Differs,
            );
        }
        if let Some(is_same) = here.as_mut().and_then(|file| is_same_here(file, extent, &content)) {
            compared_here += 1;
            if !is_same {
                let differs = "the image file at its place has the same size and time, and another content";
                tell(format!("{differs} at {}: see which of them is right", extent.at), Trouble::Differs);
            }
        }
    }
    let content = disk.entry.content.clone().ok_or(ClientError::Damaged)?;
    let reader: Arc<dyn DiskBytes> = Arc::new(ContentReader::new(browser.clone(), content));
    let file_systems = look_into(&reader, disk.table.as_ref())?;
    for found in &file_systems {
        if let Some(why) = found.trouble() {
            let in_use = if disk.entry.flags().unsettled { "; it was in use while it was backed up" } else { "" };
            tell(format!("{why}{in_use}"), Trouble::Differs);
        }
    }
    meter.enter(Phase::Sending);
    meter.file_done();
    let near_damage = written.iter().filter(|extent| extent.near_damage).count() as u64;
    Ok(DrilledDisk { path, extents: written.len() as u64, of, near_damage, compared_here, table: disk.table, file_systems })
}

/// The contents of extents; none of one that is lost.
fn bring_back(browser: &Browser, extents: &[Extent]) -> Result<Vec<(Extent, Option<Vec<u8>>)>> {
    let names: Vec<ChunkName> = extents.iter().map(|extent| extent.name).collect();
    let mut opener = Opener::new(browser.keys.clone());
    let mut contents: Vec<(Extent, Option<Vec<u8>>)> = extents.iter().map(|extent| (*extent, None)).collect();
    browser.source.fetch(&names, |i, sealed| {
        let (extent, content) = &mut contents[i];
        let opened = sealed.and_then(|sealed| opener.open(&names[i], sealed).ok());
        *content = opened.filter(|opened| opened.len() as u64 == extent.len).map(<[u8]>::to_vec);
        Ok(())
    })?;
    Ok(contents)
}

/// The image file at its place, if nothing of it changed since the point.
fn unchanged_here(path: &Path, disk: &Disk) -> Option<File> {
    let found = System::metadata_of(path).ok()?;
    let is_unchanged =
        found.kind == Some(FileKind::File) && found.size == disk.entry.len() && found.modified == modified(&disk.entry);
    is_unchanged.then(|| File::open(path).ok()).flatten()
}

/// Whether the file has the same in the place of an extent; `None` where that cannot be read.
fn is_same_here(file: &mut File, extent: &Extent, content: &[u8]) -> Option<bool> {
    let mut here = vec![0; content.len()];
    file.seek(SeekFrom::Start(extent.at)).and_then(|_| file.read_exact(&mut here)).ok()?;
    Some(here == content)
}
