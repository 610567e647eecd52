//! Reading fixed fields from unchecked bytes.

use super::{FormatError, VERSION};

/// A position in unchecked bytes; every read checks that the bytes are there.
#[derive(Debug)]
pub(super) struct Cursor<'a> {
    what: &'static str,
    rest: &'a [u8],
}

impl<'a> Cursor<'a> {
    /// A cursor over `bytes`, which should be a `what`.
    pub(super) fn new(what: &'static str, bytes: &'a [u8]) -> Self {
        Self { what, rest: bytes }
    }

    pub(super) fn take(&mut self, n: usize) -> Result<&'a [u8], FormatError> {
        let (taken, rest) = self.rest.split_at_checked(n).ok_or(FormatError::CutShort { what: self.what })?;
        self.rest = rest;
        Ok(taken)
    }

    pub(super) fn array<const N: usize>(&mut self) -> Result<[u8; N], FormatError> {
        Ok(self.take(N)?.try_into().expect("take returns as many bytes as asked for"))
    }

    pub(super) fn u16(&mut self) -> Result<u16, FormatError> {
        self.array().map(u16::from_le_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, FormatError> {
        self.array().map(u32::from_le_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, FormatError> {
        self.array().map(u64::from_le_bytes)
    }

    /// Reads a magic and the version behind it; anything but version 1 is refused.
    pub(super) fn magic_and_version(&mut self, magic: &[u8; 8]) -> Result<(), FormatError> {
        if self.take(8)? != magic {
            return Err(FormatError::NotOne { what: self.what });
        }
        match self.u16()? {
            VERSION => Ok(()),
            found => Err(FormatError::UnknownVersion { what: self.what, found: found.into() }),
        }
    }

    /// Reads what [`with_clear_part`](super::with_clear_part) writes.
    pub(super) fn clear_part(&mut self, magic: &[u8; 8]) -> Result<&'a [u8], FormatError> {
        self.magic_and_version(magic)?;
        self.zeros(2)?;
        let len = self.u32()? as usize;
        self.take(len)
    }

    /// Reads `n` bytes that must be zero: flags of later versions.
    pub(super) fn zeros(&mut self, n: usize) -> Result<(), FormatError> {
        if self.take(n)?.iter().all(|b| *b == 0) {
            Ok(())
        } else {
            Err(FormatError::damaged(self.what, "reserved bytes are not zero"))
        }
    }

    pub(super) fn is_at_end(&self) -> bool {
        self.rest.is_empty()
    }
}
