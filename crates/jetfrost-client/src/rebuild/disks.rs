//! A disk of a point, onto a device or into a new image file, and what came of it, with evidence.

use std::collections::HashSet;
use std::sync::Arc;

use jetfrost_image::ChunkName;
use jetfrost_image::format::Content;
use jetfrost_image::tree::expand_parts;
use jetfrost_wire::size::show;

use super::Result;
use super::before::{Forgone, Lost, MEASURED, forgone_by, read_for_a_while};
use super::checklist::{Checklist, Item, Paths, State};
use super::evidence::{bytes, exceptions_at_the_backup, many};
use crate::browse::{Browser, OpenPoint, find};
use crate::disk::file_systems::{FileSystem, Found};
use crate::disk::partitions::{EFI_SYSTEM, Scheme, Table};
use crate::disk::{Disk, DiskBytes, DiskReport, OnDisk, Target, TargetDisk};
use crate::error::ClientError;

/// What is forgone by choosing a point instead of the newest, of one disk; none when it is the newest.
///
/// # Errors
/// What the service said.
pub fn forgone_of_disk(browser: &Browser, point: &OpenPoint, disk: &Disk) -> Result<Option<Forgone>> {
    forgone_by(browser, point, |newest| {
        let later = match find(&browser.source(), newest, &disk.path) {
            Err(ClientError::NoPath(_)) => None,
            other => other?.and_then(|entry| entry.content),
        };
        let (Some(later), Some(content)) = (later, &disk.entry.content) else { return Ok(Lost::default()) };
        let mut known = HashSet::new();
        each_part(browser, content, |at, _, name| {
            known.insert(place(at, &name));
        })?;
        let mut bytes = 0;
        each_part(browser, &later, |at, len, name| bytes += if known.contains(&place(at, &name)) { 0 } else { len })?;
        Ok(Lost { files: u64::from(bytes > 0), bytes })
    })
}

/// Where something lies, and the beginning of its name, which is as good as random: a large disk has a million of them.
fn place(at: u64, name: &ChunkName) -> (u64, [u8; 8]) {
    (at, *name.0.first_chunk().expect("a name has 32 bytes"))
}

/// Goes through what is no hole: where it is, its length, its name.
fn each_part(browser: &Browser, content: &Content, mut each: impl FnMut(u64, u64, ChunkName)) -> Result<()> {
    let mut at = 0;
    expand_parts(&browser.source(), content, &mut |part| {
        if let Some(name) = part.name {
            each(at, part.len, name);
        }
        at += part.len;
        Ok(())
    })
}

/// What there is to read of a disk.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ToRead {
    /// Bytes that are no holes.
    pub bytes: u64,
    /// Bytes a second, as measured; none where there is too little to measure.
    pub rate: Option<f64>,
}

/// Measures how fast a disk of a point can be read now.
///
/// # Errors
/// What the service said.
pub fn measure_disk(browser: &Browser, disk: &Disk) -> Result<ToRead> {
    let (mut names, mut bytes) = (Vec::new(), 0);
    let content = disk.entry.content.clone().unwrap_or_else(Content::empty);
    let gathered = each_part(browser, &content, |_, len, name| {
        if bytes < MEASURED {
            names.push(name);
        }
        bytes += len;
    });
    // What is lost is told when it is to be restored.
    gathered.or_else(|error| if error.is_loss() { Ok(()) } else { Err(error) })?;
    Ok(ToRead { bytes, rate: read_for_a_while(browser, &names)? })
}

/// What came of bringing a disk back, with what is found on the target and in the point.
///
/// # Errors
/// What the service said; [`ClientError::File`]. What is not as it should be is in the list.
pub fn check_disk(browser: &Browser, point: &OpenPoint, disk: &Disk, target: &Target, report: &DiskReport) -> Result<Checklist> {
    let image: Arc<dyn DiskBytes> = Arc::new(disk.reader(browser));
    let there: Arc<dyn DiskBytes> = Arc::new(TargetDisk::open(target)?);
    let was = OnDisk::of(&image)?;
    let is = OnDisk::of(&there)?;
    let (Target::File(path) | Target::Device(path)) = target;
    let mut items = vec![
        of_contents(disk, report),
        of_lost(report),
        of_table(was.table.as_ref(), is.table.as_ref()),
        of_file_systems(&was.file_systems, &is.file_systems),
        of_start(&there, is.table.as_ref())?,
    ];
    items.extend(of_room(there.bytes(), image.bytes(), is.table.as_ref()));
    items.push(exceptions_at_the_backup(browser, point)?);
    Ok(Checklist::new(browser, point, path, items))
}

fn of_contents(disk: &Disk, report: &DiskReport) -> Item {
    let mut wrong = Paths::default();
    report.unsound.iter().for_each(|stretch| wrong.add(&disk.path, &stretch_words(stretch)));
    let found = match wrong.count {
        0 => format!("{}; all of it was read from the target again, and matches.", bytes(report.bytes)),
        count => format!("{}; not as it was: {} of what was read from the target.", bytes(report.bytes), many(count, "stretch")),
    };
    wrong.wrong_if_any("Contents", found)
}

fn stretch_words(stretch: &std::ops::Range<u64>) -> String {
    format!("bytes {} to {}", stretch.start, stretch.end)
}

fn of_lost(report: &DiskReport) -> Item {
    let mut lost = Paths::default();
    report.damaged.iter().for_each(|stretch| lost.add(stretch_words(stretch).as_bytes(), ""));
    let bytes: u64 = report.damaged.iter().map(|stretch| stretch.end - stretch.start).sum();
    let found = match lost.count {
        0 => "Nothing was left out, and nothing was damaged.".into(),
        _ => format!("{} are damaged or missing in the image store; zeros are in their place.", show(bytes)),
    };
    lost.wrong_if_any("Restored exactly", found)
}

fn table_words(table: Option<&Table>) -> String {
    table.map_or_else(|| "no partition table".into(), Table::in_words)
}

fn of_table(was: Option<&Table>, is: Option<&Table>) -> Item {
    let is_same = was.map(|table| (table.scheme, &table.partitions)) == is.map(|table| (table.scheme, &table.partitions));
    let found = if is_same {
        format!("As in the backup: {}.", table_words(is))
    } else {
        format!("The target has {}; the backup has {}.", table_words(is), table_words(was))
    };
    Paths::default().item("Partition table", if is_same { State::Right } else { State::Wrong }, found)
}

fn of_file_systems(was: &[Found], is: &[Found]) -> Item {
    let mut paths = Paths::default();
    for found in is {
        paths.add(found.place().as_bytes(), &found.what.in_words());
    }
    let does_not_open = is.iter().filter(|found| matches!(found.what, FileSystem::DoesNotOpen(_))).count() as u64;
    let (state, found) = if was != is {
        (State::Wrong, "They are not those of the backup.".into())
    } else if does_not_open > 0 {
        (State::Known, format!("{does_not_open} of {} do not open, as in the backup.", is.len()))
    } else if is.is_empty() {
        (State::Known, "There is none that is known here.".into())
    } else {
        (State::Right, format!("{}, as in the backup.", many(is.len() as u64, "file system")))
    };
    paths.item("File systems", state, found)
}

/// The boot signature (UEFI specification 2.10, § 5.2.1) ends the first sector; code before it starts a machine that has no UEFI.
const SIGNATURE: (usize, [u8; 2]) = (510, [0x55, 0xaa]);
const BOOT_CODE: usize = 440;

fn of_start(disk: &Arc<dyn DiskBytes>, table: Option<&Table>) -> Result<Item> {
    let first = disk.read(0, 512)?;
    let has_code = first.get(SIGNATURE.0..) == Some(&SIGNATURE.1) && first[..BOOT_CODE].iter().any(|byte| *byte != 0);
    let system = table.and_then(|table| table.partitions.iter().find(|part| part.purpose == EFI_SYSTEM));
    let (state, found) = match (has_code, system) {
        (_, Some(part)) => (State::Right, format!("There is an EFI system partition, partition {}.", part.number)),
        (true, None) => (State::Right, "There is boot code in the first sector.".into()),
        (false, None) => {
            (State::Known, "There is neither boot code nor an EFI system partition: no machine starts from it alone.".into())
        }
    };
    Ok(Paths::default().item("Boot", state, found))
}

/// A device that is larger than the disk was.
fn of_room(there: u64, was: u64, table: Option<&Table>) -> Option<Item> {
    let rest = there.checked_sub(was).filter(|rest| *rest > 0)?;
    let copy = match table {
        Some(table) if table.scheme == Scheme::Gpt => {
            " The copy of the partition table belongs at the end of the device: a partitioning program moves it there."
        }
        _ => "",
    };
    let found = format!("The target is larger: {} at its end were left as they were.{copy}", show(rest));
    Some(Paths::default().item("Size", State::Known, found))
}
