//! The pax interchange format (POSIX.1-2017, pax, "pax Interchange Format"): ustar headers, and records before them for what those have no
//! room for. Extended attributes are records as the usual programs write them (`SCHILY.xattr.`).

use std::io::{self, Write};

use jetfrost_image::format::{Entry, EntryKind};
use tar::{EntryType, Header};

use super::archive::Archive;

const BLOCK: u64 = 512;
/// What the octal fields of a header hold.
const LARGEST_ID: u64 = 0o7_777_777;
const LARGEST_TIME: i64 = 0o77_777_777_777;
const LARGEST_SIZE: u64 = 0o77_777_777_777;
const LONGEST_NAME: usize = 100;
const LONGEST_OWNER: usize = 31;

/// A tar archive.
pub(super) struct TarArchive<W> {
    out: W,
    /// Of the file that is being written.
    written: u64,
}

impl<W: Write> TarArchive<W> {
    pub(super) fn new(out: W) -> Self {
        Self { out, written: 0 }
    }

    fn head(&mut self, kind: EntryType, name: &[u8], entry: &Entry, size: u64, target: Option<&[u8]>) -> io::Result<()> {
        let (header, records) = header(kind, name, entry, size, target)?;
        if !records.is_empty() {
            let mut before = Header::new_ustar();
            before.set_entry_type(EntryType::XHeader);
            before.set_path("pax")?;
            before.set_mode(0o644);
            before.set_size(records.len() as u64);
            before.set_cksum();
            self.out.write_all(before.as_bytes())?;
            self.out.write_all(&records)?;
            self.pad(records.len() as u64)?;
        }
        self.out.write_all(header.as_bytes())
    }

    /// Fills the block that so many bytes end in.
    fn pad(&mut self, len: u64) -> io::Result<()> {
        const ZEROS: [u8; BLOCK as usize] = [0; BLOCK as usize];
        let missing = usize::try_from((BLOCK - len % BLOCK) % BLOCK).expect("less than a block");
        self.out.write_all(&ZEROS[..missing])
    }
}

impl<W: Write> Archive for TarArchive<W> {
    fn takes(&self, _: &[u8]) -> bool {
        true
    }

    fn without_content(&mut self, name: &[u8], entry: &Entry) -> io::Result<bool> {
        let kind = match entry.kind {
            EntryKind::Directory => EntryType::Directory,
            EntryKind::Symlink => EntryType::Symlink,
            EntryKind::Fifo => EntryType::Fifo,
            EntryKind::CharDevice => EntryType::Char,
            EntryKind::BlockDevice => EntryType::Block,
            // There is no form for it.
            EntryKind::Socket | EntryKind::File => return Ok(false),
        };
        let folder = [name, b"/"].concat();
        let name = if kind == EntryType::Directory { &folder } else { name };
        self.head(kind, name, entry, 0, entry.target.as_ref().map(|target| &target[..]))?;
        Ok(true)
    }

    fn link(&mut self, name: &[u8], entry: &Entry, first: &[u8]) -> io::Result<bool> {
        self.head(EntryType::Link, name, entry, 0, Some(first))?;
        Ok(true)
    }

    fn begin(&mut self, name: &[u8], entry: &Entry) -> io::Result<()> {
        self.written = 0;
        self.head(EntryType::Regular, name, entry, entry.len(), None)
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.written += bytes.len() as u64;
        self.out.write_all(bytes)
    }

    fn end(&mut self) -> io::Result<()> {
        self.pad(self.written)
    }

    fn finish(mut self) -> io::Result<()> {
        // Two blocks of zeros end an archive.
        self.out.write_all(&[0; 2 * BLOCK as usize])?;
        self.out.flush()
    }
}

/// A header, and the records that go before it.
fn header(kind: EntryType, name: &[u8], entry: &Entry, size: u64, target: Option<&[u8]>) -> io::Result<(Header, Vec<u8>)> {
    let mut header = Header::new_ustar();
    let mut records = Records::default();
    header.set_entry_type(kind);
    header.set_mode(entry.mode & 0o7777);
    let is_text = [Some(name), target].into_iter().flatten().all(|path| std::str::from_utf8(path).is_ok());
    if !is_text {
        // Else readers take paths for UTF-8.
        records.add(b"hdrcharset", b"BINARY");
    }
    put(&mut header.as_ustar_mut().expect("made so").name, name, LONGEST_NAME, b"path", &mut records);
    if let Some(target) = target {
        put(&mut header.as_ustar_mut().expect("made so").linkname, target, LONGEST_NAME, b"linkpath", &mut records);
    }
    header.set_size(records.number(b"size", size, LARGEST_SIZE));
    header.set_uid(records.number(b"uid", entry.uid.into(), LARGEST_ID));
    header.set_gid(records.number(b"gid", entry.gid.into(), LARGEST_ID));
    let ustar = header.as_ustar_mut().expect("made so");
    put(&mut ustar.uname, entry.owner.as_deref().unwrap_or_default().as_bytes(), LONGEST_OWNER, b"uname", &mut records);
    put(&mut ustar.gname, entry.group.as_deref().unwrap_or_default().as_bytes(), LONGEST_OWNER, b"gname", &mut records);
    header.set_mtime(u64::try_from(entry.mtime.clamp(0, LARGEST_TIME)).expect("not below zero"));
    if entry.mtime_nanos != 0 || !(0..=LARGEST_TIME).contains(&entry.mtime) {
        records.add(b"mtime", decimal(entry.mtime, entry.mtime_nanos).as_bytes());
    }
    if let Some((major, minor)) = entry.device {
        header.set_device_major(major)?;
        header.set_device_minor(minor)?;
    }
    for (attribute, value) in entry.xattrs.iter().flatten() {
        records.add(&[b"SCHILY.xattr.", &attribute[..]].concat(), value);
    }
    header.set_cksum();
    Ok((header, records.0))
}

/// Puts text into a field. What is too long for it, or no ASCII, is a record as well.
fn put(field: &mut [u8], text: &[u8], longest: usize, keyword: &[u8], records: &mut Records) {
    let kept = text.len().min(longest);
    field[..kept].copy_from_slice(&text[..kept]);
    if text.len() > longest || !text.is_ascii() {
        records.add(keyword, text);
    }
}

/// Seconds since 1970 with their fraction. Before that, the fraction counts backwards as well.
fn decimal(seconds: i64, nanos: u32) -> String {
    match (seconds < 0, nanos) {
        (_, 0) => seconds.to_string(),
        (false, nanos) => format!("{seconds}.{nanos:09}"),
        (true, nanos) => format!("-{}.{:09}", -(seconds + 1), 1_000_000_000 - nanos),
    }
}

/// Extended header records: the length of each in decimal, counting itself, a blank, keyword, `=`, value, and a line feed.
#[derive(Default)]
struct Records(Vec<u8>);

impl Records {
    fn add(&mut self, keyword: &[u8], value: &[u8]) {
        let rest = keyword.len() + value.len() + 3;
        let mut len = rest;
        while len != rest + len.to_string().len() {
            len = rest + len.to_string().len();
        }
        self.0.extend([len.to_string().as_bytes(), b" ", keyword, b"=", value, b"\n"].concat());
    }

    /// What of a number stands in the header: zero if it has to be a record.
    fn number(&mut self, keyword: &[u8], number: u64, largest: u64) -> u64 {
        if number <= largest {
            return number;
        }
        self.add(keyword, number.to_string().as_bytes());
        0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_counts_its_own_length() {
        for len in [1_usize, 5, 80, 89, 90, 91, 92, 970, 985, 986, 987, 988, 989, 990, 991] {
            let mut records = Records::default();
            records.add(b"path", &vec![b'x'; len]);
            let text = String::from_utf8(records.0.clone()).expect("text");
            let told: usize = text.split(' ').next().expect("a length").parse().expect("a number");
            assert_eq!(told, records.0.len());
        }
    }

    #[test]
    fn times_before_1970_are_those_times() {
        assert_eq!(decimal(5, 0), "5");
        assert_eq!(decimal(5, 20_000_000), "5.020000000");
        assert_eq!(decimal(-1, 750_000_000), "-0.250000000");
        assert_eq!(decimal(-2, 250_000_000), "-1.750000000");
        assert_eq!(decimal(-7, 0), "-7");
    }
}
