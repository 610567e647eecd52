//! Needs files: which chunks a point needs, as a difference to an earlier point (§ 7).

use std::io::{self, Write};

use super::cursor::Cursor;
use super::{FormatError, VERSION};
use crate::id::{ChunkName, StoreId};

const WHAT: &str = "a needs file";
const MAGIC: &[u8; 8] = b"\x89JFNDS\r\n";

/// Length of a needs file's head.
pub const NEEDS_HEAD_LEN: usize = 64;
const CHECK: usize = 32;

/// The fixed fields in front.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NeedsHead {
    /// The store.
    pub store: StoreId,
    /// The point whose needs these are.
    pub sequence: u64,
    /// The point that this is a difference to; 0 for the empty set.
    pub base: u64,
    /// Names added.
    pub added: u64,
    /// Names removed.
    pub removed: u64,
}

impl NeedsHead {
    /// Reads the head.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let mut cursor = Cursor::new(WHAT, bytes);
        cursor.magic_and_version(MAGIC)?;
        cursor.zeros(6)?;
        let store = StoreId(cursor.array()?);
        let (sequence, base, added, removed) = (cursor.u64()?, cursor.u64()?, cursor.u64()?, cursor.u64()?);
        if sequence == 0 || base >= sequence || (base == 0 && removed > 0) {
            return Err(FormatError::damaged(WHAT, "its base does not come before it"));
        }
        Ok(Self { store, sequence, base, added, removed })
    }

    /// Where the names that are added begin in the file.
    #[must_use]
    pub fn added_at(&self) -> u64 {
        NEEDS_HEAD_LEN as u64
    }

    /// Where the names that are removed begin in the file.
    #[must_use]
    pub fn removed_at(&self) -> u64 {
        self.added_at() + self.added * ChunkName::LEN as u64
    }

    fn to_bytes(self) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        bytes.extend(VERSION.to_le_bytes());
        bytes.extend([0; 6]);
        bytes.extend(self.store.as_bytes());
        for number in [self.sequence, self.base, self.added, self.removed] {
            bytes.extend(number.to_le_bytes());
        }
        bytes
    }
}

/// What follows from a needs file for the set it describes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NeedsSummary {
    /// The head.
    pub head: NeedsHead,
    /// All names in the file combined by XOR: the difference between the XOR of the base and of the point.
    pub xor: [u8; 32],
    /// The file's check: BLAKE3 of all bytes before it.
    pub check: [u8; 32],
}

/// Writes a needs file name by name: first what is added, then what is removed, each strictly ascending and as many
/// as the head says.
#[derive(Debug)]
pub struct NeedsWriter<W> {
    out: W,
    hasher: blake3::Hasher,
}

impl<W: Write> NeedsWriter<W> {
    /// Writes the head.
    ///
    /// # Errors
    /// Of `out`.
    pub fn begin(out: W, head: NeedsHead) -> io::Result<Self> {
        let mut writer = Self { out, hasher: blake3::Hasher::new() };
        writer.write(&head.to_bytes())?;
        Ok(writer)
    }

    /// Writes the next name.
    ///
    /// # Errors
    /// Of `out`.
    pub fn push(&mut self, name: &ChunkName) -> io::Result<()> {
        self.write(name.as_bytes())
    }

    /// Writes the check and gives it and `out` back.
    ///
    /// # Errors
    /// Of `out`.
    pub fn finish(mut self) -> io::Result<(W, [u8; 32])> {
        let check = *self.hasher.finalize().as_bytes();
        self.out.write_all(&check)?;
        Ok((self.out, check))
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.hasher.update(bytes);
        self.out.write_all(bytes)
    }
}

/// The check of a whole needs file in memory; `None` for bytes that are too short to be one.
#[must_use]
pub fn needs_check(file: &[u8]) -> Option<[u8; 32]> {
    file.last_chunk().copied().filter(|_| file.len() >= NEEDS_HEAD_LEN + CHECK)
}

/// A whole needs file in memory. Both lists must be strictly ascending.
#[must_use]
pub fn encode_needs(store: StoreId, sequence: u64, base: u64, added: &[ChunkName], removed: &[ChunkName]) -> Vec<u8> {
    let head = NeedsHead { store, sequence, base, added: added.len() as u64, removed: removed.len() as u64 };
    let bytes = Vec::with_capacity(NEEDS_HEAD_LEN + (added.len() + removed.len()) * ChunkName::LEN + CHECK);
    let write = || {
        let mut writer = NeedsWriter::begin(bytes, head)?;
        added.iter().chain(removed).try_for_each(|name| writer.push(name))?;
        writer.finish()
    };
    write().expect("writing to memory does not fail").0
}

/// Reads a needs file as its bytes pass by, in pieces of any size.
#[derive(Debug, Default)]
pub struct NeedsScanner {
    pending: Vec<u8>,
    head: Option<NeedsHead>,
    names: u64,
    last: Option<ChunkName>,
    xor: [u8; 32],
    hasher: blake3::Hasher,
    /// Once the file is complete.
    check: Option<[u8; 32]>,
}

impl NeedsScanner {
    /// Takes the next bytes; `each` is called for every name with whether it is added (else removed).
    ///
    /// # Errors
    /// [`FormatError`] when they cannot belong to a sound needs file; what `each` returns.
    pub fn push<E: From<FormatError>>(
        &mut self,
        mut bytes: &[u8],
        mut each: impl FnMut(ChunkName, bool) -> Result<(), E>,
    ) -> Result<(), E> {
        while !bytes.is_empty() {
            if self.check.is_some() {
                return Err(FormatError::damaged(WHAT, "bytes follow its end").into());
            }
            let want = if self.head.is_none() { NEEDS_HEAD_LEN } else { ChunkName::LEN };
            let used = bytes.len().min(want - self.pending.len());
            self.pending.extend(&bytes[..used]);
            bytes = &bytes[used..];
            if self.pending.len() == want {
                let whole = std::mem::take(&mut self.pending);
                self.take(&whole, &mut each)?;
            }
        }
        Ok(())
    }

    /// What the file says, once all bytes have been pushed.
    ///
    /// # Errors
    /// [`FormatError::CutShort`].
    pub fn finish(self) -> Result<NeedsSummary, FormatError> {
        match (self.head, self.check) {
            (Some(head), Some(check)) => Ok(NeedsSummary { head, xor: self.xor, check }),
            _ => Err(FormatError::CutShort { what: WHAT }),
        }
    }

    fn take<E: From<FormatError>>(
        &mut self,
        bytes: &[u8],
        each: &mut impl FnMut(ChunkName, bool) -> Result<(), E>,
    ) -> Result<(), E> {
        let Some(head) = self.head else {
            self.head = Some(NeedsHead::from_bytes(bytes)?);
            self.hasher.update(bytes);
            return Ok(());
        };
        if self.names == head.added.saturating_add(head.removed) {
            let check = *self.hasher.finalize().as_bytes();
            if check != bytes {
                return Err(FormatError::damaged(WHAT, "it does not match its check").into());
            }
            self.check = Some(check);
            return Ok(());
        }
        self.hasher.update(bytes);
        let name = ChunkName(bytes.try_into().expect("as long as a name"));
        if self.names == head.added {
            self.last = None;
        }
        if self.last.replace(name).is_some_and(|last| last >= name) {
            return Err(FormatError::damaged(WHAT, "its names are not in order").into());
        }
        for (x, b) in self.xor.iter_mut().zip(name.as_bytes()) {
            *x ^= b;
        }
        self.names += 1;
        each(name, self.names <= head.added)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn names(range: std::ops::Range<u8>) -> Vec<ChunkName> {
        range.map(|i| ChunkName([i; 32])).collect()
    }

    fn scan(bytes: &[u8], piece: usize) -> Result<(NeedsSummary, Vec<(ChunkName, bool)>), FormatError> {
        let mut scanner = NeedsScanner::default();
        let mut seen = Vec::new();
        for piece in bytes.chunks(piece) {
            scanner.push(piece, |name, added| {
                seen.push((name, added));
                Ok::<_, FormatError>(())
            })?;
        }
        scanner.finish().map(|summary| (summary, seen))
    }

    proptest! {
        #[test]
        fn names_come_back_in_any_pieces(added in 0_u8..9, removed in 0_u8..9, piece in 1_usize..200) {
            let (added, removed) = (names(0..added), names(0..removed));
            let base = 3;
            let bytes = encode_needs(StoreId([1; 16]), 4, base, &added, &removed);
            let (summary, seen) = scan(&bytes, piece).expect("sound");
            prop_assert_eq!((summary.head.base, summary.head.added), (base, added.len() as u64));
            let expected: Vec<_> = added.iter().map(|n| (*n, true)).chain(removed.iter().map(|n| (*n, false))).collect();
            prop_assert_eq!(seen, expected);
        }

        #[test]
        fn a_flipped_bit_is_noticed(bit in 0_usize..8, seed: usize) {
            let mut bytes = encode_needs(StoreId([1; 16]), 4, 3, &names(1..5), &names(5..7));
            let at = seed % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert!(scan(&bytes, 64).is_err());
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = scan(&bytes, 7);
        }
    }

    #[test]
    fn a_point_that_changed_nothing_costs_96_bytes() {
        assert_eq!(encode_needs(StoreId([1; 16]), 4, 3, &[], &[]).len(), 96);
    }

    #[test]
    fn disorder_is_refused() {
        let twice = [ChunkName([1; 32]), ChunkName([1; 32])];
        assert!(scan(&encode_needs(StoreId([1; 16]), 1, 0, &twice, &[]), 64).is_err());
        assert!(scan(&encode_needs(StoreId([1; 16]), 3, 3, &[], &[]), 64).is_err(), "its own base");
    }
}
