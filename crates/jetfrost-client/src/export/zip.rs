//! ZIP (APPNOTE 6.3.10), written as a stream: sizes follow the content, and those that need it have 64 bits.

use std::io::{self, Write};

use jetfrost_image::format::{Entry, EntryKind};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use zip::write::{ExtendedFileOptions, FileOptions, StreamWriter};
use zip::{CompressionMethod, DateTime, ZipWriter};

use super::archive::Archive;

/// Extended timestamp: seconds since 1970, since the usual ones have no time zone and count in twos (APPNOTE, appendix of header IDs).
const EXTENDED_TIMESTAMP: u16 = 0x5455;
/// From here on lengths have 64 bits.
const LARGE: u64 = 0xffff_ffff;

/// A ZIP archive.
pub(super) struct ZipArchive<W: Write>(ZipWriter<StreamWriter<W>>);

impl<W: Write> ZipArchive<W> {
    pub(super) fn new(out: W) -> Self {
        Self(ZipWriter::new_stream(out))
    }
}

impl<W: Write> Archive for ZipArchive<W> {
    fn takes(&self, name: &[u8]) -> bool {
        std::str::from_utf8(name).is_ok()
    }

    fn without_content(&mut self, name: &[u8], entry: &Entry) -> io::Result<bool> {
        let name = text(name)?;
        match (entry.kind, &entry.target) {
            (EntryKind::Directory, _) => self.0.add_directory(name, options(entry)?)?,
            (EntryKind::Symlink, Some(target)) => {
                let Ok(target) = std::str::from_utf8(target) else { return Ok(false) };
                self.0.add_symlink(name, target, options(entry)?)?;
            }
            _ => return Ok(false),
        }
        Ok(true)
    }

    fn link(&mut self, _: &[u8], _: &Entry, _: &[u8]) -> io::Result<bool> {
        Ok(false)
    }

    fn begin(&mut self, name: &[u8], entry: &Entry) -> io::Result<()> {
        self.0.start_file(text(name)?, options(entry)?.large_file(entry.len() >= LARGE))?;
        Ok(())
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.0.write_all(bytes)
    }

    fn end(&mut self) -> io::Result<()> {
        Ok(())
    }

    fn finish(self) -> io::Result<()> {
        self.0.finish()?.into_inner().flush()
    }
}

fn text(name: &[u8]) -> io::Result<&str> {
    std::str::from_utf8(name).map_err(|_| io::ErrorKind::InvalidInput.into())
}

fn options(entry: &Entry) -> io::Result<FileOptions<'static, 'static, ExtendedFileOptions>> {
    let mut options = FileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .compression_level(Some(1))
        .unix_permissions(entry.mode & 0o777);
    if let Some(time) = local(entry.mtime) {
        options = options.last_modified_time(time);
    }
    if let Ok(seconds) = i32::try_from(entry.mtime) {
        let value = [&[1][..], &seconds.to_le_bytes()].concat();
        options.add_extra_field(EXTENDED_TIMESTAMP, value, false)?;
    }
    Ok(options)
}

/// A time as ZIP has it: by this machine's clock, 1980 to 2107.
fn local(seconds: i64) -> Option<DateTime> {
    let at = Timestamp::from_second(seconds).ok()?.to_zoned(TimeZone::system());
    let small = |number: i8| u8::try_from(number).ok();
    let (year, month, day) = (u16::try_from(at.year()).ok()?, small(at.month())?, small(at.day())?);
    DateTime::from_date_and_time(year, month, day, small(at.hour())?, small(at.minute())?, small(at.second())?).ok()
}
