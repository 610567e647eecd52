//! Partition tables: the classical one in the first sector, and GUID partition tables (UEFI specification 2.10, § 5).

use std::fmt::Write;

/// Sector sizes that disks have.
const SECTORS: [u64; 2] = [512, 4096];
/// Entries of a GUID partition table are not read beyond this.
const MOST_ENTRIES: u32 = 512;
/// Logical partitions are not followed beyond this: their chain may be a ring.
const MOST_LOGICAL: usize = 128;

/// What a partition is for that a machine with UEFI starts from.
pub const EFI_SYSTEM: &str = "EFI system";

/// How a disk is divided.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Which kind of table it is.
    pub scheme: Scheme,
    /// Its partitions, by number.
    pub partitions: Vec<Partition>,
    /// Whether the table at the front was damaged and its copy at the end was read.
    pub from_copy: bool,
}

/// Kinds of partition tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scheme {
    /// Four entries in the first sector, of which one may hold logical partitions.
    Mbr,
    /// A GUID partition table.
    Gpt,
}

impl Scheme {
    /// The usual word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
        }
    }
}

/// A partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// Its number, from 1.
    pub number: u32,
    /// Where it begins, in bytes.
    pub start: u64,
    /// Bytes.
    pub len: u64,
    /// What its type says that it is for.
    pub purpose: String,
    /// Its name, where the table has names.
    pub name: String,
}

impl Table {
    /// Its kind, and how many partitions it has.
    #[must_use]
    pub fn in_words(&self) -> String {
        let count = self.partitions.len();
        format!("{}, {count} partition{}", self.scheme.word(), if count == 1 { "" } else { "s" })
    }

    /// Reads the table of a disk of `len` bytes; `None` when it has none. `read(offset, n)` gives `n` bytes of the disk, or
    /// as many as there are.
    ///
    /// # Errors
    /// Those of `read`.
    pub fn read<E>(len: u64, mut read: impl FnMut(u64, usize) -> Result<Vec<u8>, E>) -> Result<Option<Self>, E> {
        for sector in SECTORS {
            for (at, from_copy) in [(sector, false), (len.saturating_sub(sector), true)] {
                if let Some(partitions) = guid_partitions(at, sector, len, &mut read)? {
                    return Ok(Some(Self { scheme: Scheme::Gpt, partitions, from_copy }));
                }
            }
        }
        let Some(partitions) = classical_partitions(len, &mut read)? else { return Ok(None) };
        Ok(Some(Self { scheme: Scheme::Mbr, partitions, from_copy: false }))
    }
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..at + 4).map(|b| u32::from_le_bytes(b.try_into().expect("four bytes")))
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    bytes.get(at..at + 8).map(|b| u64::from_le_bytes(b.try_into().expect("eight bytes")))
}

/// The partitions of the table whose header is at `at`, if a sound one is there.
fn guid_partitions<E>(
    at: u64,
    sector: u64,
    disk: u64,
    read: &mut impl FnMut(u64, usize) -> Result<Vec<u8>, E>,
) -> Result<Option<Vec<Partition>>, E> {
    let header = read(at, 512)?;
    let Some(place) = entries_place(&header) else { return Ok(None) };
    let bytes = place.count as usize * place.size as usize;
    let Some(offset) = place.first.checked_mul(sector).filter(|offset| *offset < disk) else { return Ok(None) };
    let entries = read(offset, bytes)?;
    if entries.len() < bytes || crc32fast::hash(&entries) != place.crc {
        return Ok(None);
    }
    let numbered = (1..).zip(entries.chunks_exact(place.size as usize));
    Ok(Some(numbered.filter_map(|(number, entry)| guid_partition(number, entry, sector)).collect()))
}

struct EntriesPlace {
    first: u64,
    count: u32,
    size: u32,
    crc: u32,
}

/// Where the entries are, if the header is sound (§ 5.3.2).
fn entries_place(header: &[u8]) -> Option<EntriesPlace> {
    if header.get(..8)? != b"EFI PART" {
        return None;
    }
    let size = u32_at(header, 12)? as usize;
    let mut checked = header.get(..size).filter(|_| size >= 92)?.to_vec();
    checked[16..20].fill(0);
    if crc32fast::hash(&checked) != u32_at(header, 16)? {
        return None;
    }
    let place = EntriesPlace {
        first: u64_at(header, 72)?,
        count: u32_at(header, 80)?,
        size: u32_at(header, 84)?,
        crc: u32_at(header, 88)?,
    };
    (place.count <= MOST_ENTRIES && (128..=4096).contains(&place.size)).then_some(place)
}

fn guid_partition(number: u32, entry: &[u8], sector: u64) -> Option<Partition> {
    let kind = entry.get(..16).filter(|kind| **kind != [0; 16])?;
    let (first, last) = (u64_at(entry, 32)?, u64_at(entry, 40)?);
    let sectors = last.checked_sub(first)?.checked_add(1)?;
    let name: Vec<u16> = entry.get(56..128)?.chunks_exact(2).map(|c| u16::from_le_bytes([c[0], c[1]])).collect();
    let name = String::from_utf16_lossy(name.split(|unit| *unit == 0).next().unwrap_or_default());
    Some(Partition {
        number,
        start: first.checked_mul(sector)?,
        len: sectors.checked_mul(sector)?,
        purpose: guid_purpose(&guid(kind)),
        name: name.replace(char::is_control, "�"),
    })
}

/// The usual form of a GUID: the first three fields are little-endian.
fn guid(bytes: &[u8]) -> String {
    let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
    let mut text = String::new();
    for (i, at) in order.into_iter().enumerate() {
        if [4, 6, 8, 10].contains(&i) {
            text.push('-');
        }
        let _ = write!(text, "{:02x}", bytes[at]);
    }
    text
}

fn guid_purpose(guid: &str) -> String {
    match guid {
        "c12a7328-f81f-11d2-ba4b-00a0c93ec93b" => EFI_SYSTEM,
        "21686148-6449-6e6f-744e-656564454649" => "BIOS boot",
        "0fc63daf-8483-4772-8e79-3d69d8477de4" => "Linux file system",
        "4f68bce3-e8cd-4db1-96e7-fbcaf984b709" => "Linux root",
        "933ac7e1-2eb4-4f13-b844-0e14e2aef915" => "Linux home",
        "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f" => "Linux swap",
        "e6d6d379-f507-44c2-a23c-238f2a3df928" => "Linux LVM",
        "a19d880f-05fc-4d3b-a006-743f0f84911e" => "Linux RAID",
        "ca7d7ccb-63ed-4c53-861c-1742536059cc" => "Linux encrypted",
        "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" => "Windows data",
        "e3c9e316-0b5c-4db8-817d-f92df00215ae" => "Windows reserved",
        "de94bba4-06d1-4d40-a16a-bfd50179d6ac" => "Windows recovery",
        "7c3457ef-0000-11aa-aa11-00306543ecac" => "APFS container",
        "48465300-0000-11aa-aa11-00306543ecac" => "HFS+",
        other => return format!("type {other}"),
    }
    .into()
}

/// An entry of a classical table: kind, first sector, sectors.
type ClassicalEntry = (u8, u32, u32);

fn classical_entries(sector: &[u8]) -> Option<[ClassicalEntry; 4]> {
    if sector.get(510..512)? != [0x55, 0xaa] {
        return None;
    }
    let mut entries = [(0, 0, 0); 4];
    for (i, entry) in entries.iter_mut().enumerate() {
        let at = 446 + 16 * i;
        // The boot flag has two values; anything else is code that only looks like a table.
        if !matches!(sector[at], 0 | 0x80) {
            return None;
        }
        *entry = (sector[at + 4], u32_at(sector, at + 8)?, u32_at(sector, at + 12)?);
    }
    Some(entries)
}

fn classical_partitions<E>(
    disk: u64,
    read: &mut impl FnMut(u64, usize) -> Result<Vec<u8>, E>,
) -> Result<Option<Vec<Partition>>, E> {
    let Some(entries) = classical_entries(&read(0, 512)?) else { return Ok(None) };
    let fits = |(_, first, sectors): &ClassicalEntry| (u64::from(*first) + u64::from(*sectors)) * 512 <= disk;
    let used = || entries.iter().filter(|(kind, _, sectors)| *kind != 0 && *sectors != 0);
    // A file system of its own has the same two bytes at the end of its first sector.
    if used().next().is_none() || !used().all(fits) {
        return Ok(None);
    }
    let mut partitions = Vec::new();
    for (number, (kind, first, sectors)) in (1..).zip(entries) {
        if matches!(kind, 0x05 | 0x0f | 0x85) {
            logical_partitions(first, disk, &mut partitions, read)?;
        } else if kind != 0 && sectors != 0 {
            partitions.push(classical(number, kind, first.into(), sectors.into()));
        }
    }
    partitions.sort_by_key(|partition| partition.number);
    Ok(Some(partitions))
}

/// Follows the chain of logical partitions, which are numbered from 5.
fn logical_partitions<E>(
    extended: u32,
    disk: u64,
    partitions: &mut Vec<Partition>,
    read: &mut impl FnMut(u64, usize) -> Result<Vec<u8>, E>,
) -> Result<(), E> {
    let mut at = u64::from(extended);
    for number in (5..).take(MOST_LOGICAL) {
        if at * 512 >= disk {
            break;
        }
        let Some([(kind, first, sectors), (next_kind, next, _), ..]) = classical_entries(&read(at * 512, 512)?) else { break };
        if kind != 0 && sectors != 0 {
            partitions.push(classical(number, kind, at + u64::from(first), sectors.into()));
        }
        if next_kind == 0 {
            break;
        }
        at = u64::from(extended) + u64::from(next);
    }
    Ok(())
}

fn classical(number: u32, kind: u8, first: u64, sectors: u64) -> Partition {
    let purpose = match kind {
        0x01 | 0x04 | 0x06 | 0x0e => "FAT16",
        0x07 => "NTFS or exFAT",
        0x0b | 0x0c => "FAT32",
        0x27 => "Windows recovery",
        0x82 => "Linux swap",
        0x83 => "Linux file system",
        0x8e => "Linux LVM",
        0xee => "GUID partition table",
        0xef => EFI_SYSTEM,
        0xfd => "Linux RAID",
        _ => "",
    };
    let purpose = if purpose.is_empty() { format!("type {kind:#04x}") } else { purpose.into() };
    Partition { number, start: first * 512, len: sectors * 512, purpose, name: String::new() }
}

#[cfg(test)]
mod tests {
    use std::convert::Infallible;

    use proptest::prelude::*;

    use super::*;

    fn table(disk: &[u8]) -> Option<Table> {
        let read = |offset: u64, len: usize| {
            let from = usize::try_from(offset).expect("small").min(disk.len());
            Ok::<_, Infallible>(disk[from..disk.len().min(from + len)].to_vec())
        };
        Table::read(disk.len() as u64, read).expect("reading cannot fail")
    }

    fn put_classical(disk: &mut [u8], sector: usize, entry: usize, kind: u8, first: u32, sectors: u32) {
        let base = sector * 512;
        disk[base + 510..base + 512].copy_from_slice(&[0x55, 0xaa]);
        let at = base + 446 + 16 * entry;
        disk[at + 4] = kind;
        disk[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
        disk[at + 12..at + 16].copy_from_slice(&sectors.to_le_bytes());
    }

    /// A GUID partition table with one partition from sector 40 to 99, at the front and at the end.
    fn with_guid_table() -> Vec<u8> {
        let mut disk = vec![0; 200 * 512];
        put_classical(&mut disk, 0, 0, 0xee, 1, 199);
        let mut entries = vec![0; 128 * 128];
        entries[..16]
            .copy_from_slice(&[0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47, 0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4]);
        entries[32..40].copy_from_slice(&40_u64.to_le_bytes());
        entries[40..48].copy_from_slice(&99_u64.to_le_bytes());
        for (i, unit) in "ledgers".encode_utf16().enumerate() {
            entries[56 + 2 * i..58 + 2 * i].copy_from_slice(&unit.to_le_bytes());
        }
        for (header_at, entries_at) in [(1, 2), (199, 167)] {
            let mut header = [0; 92];
            header[..8].copy_from_slice(b"EFI PART");
            header[12..16].copy_from_slice(&92_u32.to_le_bytes());
            header[72..80].copy_from_slice(&(entries_at as u64).to_le_bytes());
            header[80..84].copy_from_slice(&128_u32.to_le_bytes());
            header[84..88].copy_from_slice(&128_u32.to_le_bytes());
            header[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
            let crc = crc32fast::hash(&header);
            header[16..20].copy_from_slice(&crc.to_le_bytes());
            disk[header_at * 512..header_at * 512 + 92].copy_from_slice(&header);
            disk[entries_at * 512..][..entries.len()].copy_from_slice(&entries);
        }
        disk
    }

    #[test]
    fn a_guid_partition_table_is_read_from_its_copy_when_the_first_is_damaged() {
        let mut disk = with_guid_table();
        let expected =
            Partition { number: 1, start: 40 * 512, len: 60 * 512, purpose: "Linux file system".into(), name: "ledgers".into() };
        let found = table(&disk).expect("a table");
        assert_eq!((found.scheme, found.from_copy, &found.partitions[..]), (Scheme::Gpt, false, &[expected.clone()][..]));
        disk[600] ^= 1;
        let found = table(&disk).expect("its copy");
        assert_eq!((found.scheme, found.from_copy, &found.partitions[..]), (Scheme::Gpt, true, &[expected.clone()][..]));
        // The header is sound, and what it leads to is not.
        let mut disk = with_guid_table();
        disk[2 * 512 + 3] ^= 1;
        let found = table(&disk).expect("its copy");
        assert_eq!((found.scheme, found.from_copy, &found.partitions[..]), (Scheme::Gpt, true, &[expected][..]));
    }

    #[test]
    fn logical_partitions_are_followed_and_a_ring_of_them_ends() {
        let mut disk = vec![0; 400 * 512];
        put_classical(&mut disk, 0, 0, 0x83, 10, 20);
        put_classical(&mut disk, 0, 1, 0x05, 100, 200);
        put_classical(&mut disk, 100, 0, 0x82, 5, 10);
        put_classical(&mut disk, 100, 1, 0x05, 50, 30);
        put_classical(&mut disk, 150, 0, 0x07, 5, 20);
        let found = table(&disk).expect("a table");
        let seen: Vec<_> = found.partitions.iter().map(|p| (p.number, p.start / 512, p.len / 512, p.purpose.as_str())).collect();
        let expected = [(1, 10, 20, "Linux file system"), (5, 105, 10, "Linux swap"), (6, 155, 20, "NTFS or exFAT")];
        assert_eq!((found.scheme, seen), (Scheme::Mbr, expected.to_vec()));
        put_classical(&mut disk, 150, 1, 0x05, 0, 30);
        assert_eq!(table(&disk).expect("a table").partitions.len(), 1 + MOST_LOGICAL);
    }

    #[test]
    fn what_is_no_table_is_none() {
        assert_eq!(table(&[]), None);
        assert_eq!(table(&[0; 100_000]), None);
        // A boot sector of a file system: the two bytes at the end, and code where the entries would be.
        let mut boot = vec![0xeb; 512];
        boot[510..].copy_from_slice(&[0x55, 0xaa]);
        assert_eq!(table(&boot), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(disk in proptest::collection::vec(any::<u8>(), 0..2000), sound: bool, seed: usize) {
            let _ = table(&disk);
            let mut damaged = with_guid_table();
            if !sound {
                let at = seed % 4096;
                damaged[at..at + disk.len().min(64)].copy_from_slice(&disk[..disk.len().min(64)]);
            }
            let _ = table(&damaged);
        }
    }
}
