//! Boxes: files that are sealed for the office key piece by piece, so that neither side holds them whole (§ 3).
//!
//! The content key is wrapped with HPKE (RFC 9180). Pieces are sealed as in the STREAM construction (Hoang, Reyhanitabar, Rogaway
//! and Vizár, "Online Authenticated-Encryption and its Nonce-Reuse Misuse-Resistance", 2015): the nonce says which piece it is and
//! whether it is the last, so that none can be altered, moved, left out or cut off.

use std::io::{self, Read, Write};

use zeroize::Zeroizing;

use super::office_key::{OfficeKey, OfficePublicKey, open_for_office, seal_for_office};
use super::random::{Random, random_array};
use super::{NONCE, OpenError, TAG, open_in_place, seal_in_place};
use crate::format::FormatError;

const MAGIC: [u8; 8] = *b"JFBOX\0\0\x01";
const INFO: &[u8] = b"jetfrost v1 box";
/// Bytes of content in every piece but the last.
const PIECE: usize = 1 << 20;
const WRAPPED: usize = 32 + TAG;
/// Magic, public half of the office key, encapsulated key, wrapped content key.
const HEAD: usize = 8 + 32 + 32 + WRAPPED;

fn nonce(piece: u32, last: bool) -> [u8; NONCE] {
    let mut nonce = [0; NONCE];
    nonce[7..11].copy_from_slice(&piece.to_be_bytes());
    nonce[11] = u8::from(last);
    nonce
}

/// Writes a box.
pub struct BoxWriter<W> {
    out: W,
    key: Zeroizing<[u8; 32]>,
    piece: u32,
    buffer: Vec<u8>,
}

impl<W: Write> BoxWriter<W> {
    /// Begins a box for the office key.
    ///
    /// # Errors
    /// As `out` reports them; `InvalidInput` when the public half is none.
    pub fn begin(mut out: W, office: &OfficePublicKey, random: &dyn Random) -> io::Result<Self> {
        let key = Zeroizing::new(random_array::<32>(random));
        let mut head = MAGIC.to_vec();
        head.extend(office.0);
        let (encapsulated, wrapped) =
            seal_for_office(office, INFO, &head, &key[..], random).ok_or(io::ErrorKind::InvalidInput)?;
        head.extend(encapsulated);
        head.extend(wrapped);
        out.write_all(&head)?;
        Ok(Self { out, key, piece: 0, buffer: Vec::with_capacity(PIECE + TAG) })
    }

    /// Seals the last piece; without it the box does not open.
    ///
    /// # Errors
    /// As the output reports them.
    pub fn finish(mut self) -> io::Result<W> {
        self.seal(true)?;
        Ok(self.out)
    }

    fn seal(&mut self, last: bool) -> io::Result<()> {
        let tag = seal_in_place(&self.key, nonce(self.piece, last), &[], &mut self.buffer);
        self.out.write_all(&self.buffer)?;
        self.out.write_all(&tag)?;
        self.buffer.clear();
        self.piece = self.piece.checked_add(1).ok_or(io::ErrorKind::FileTooLarge)?;
        Ok(())
    }
}

impl<W: Write> Write for BoxWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // A full piece is sealed only when more comes: whether it is the last shows then.
        if self.buffer.len() == PIECE && !bytes.is_empty() {
            self.seal(false)?;
        }
        let n = bytes.len().min(PIECE - self.buffer.len());
        self.buffer.extend_from_slice(&bytes[..n]);
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Reads a box.
pub struct BoxReader<R> {
    from: R,
    key: Zeroizing<[u8; 32]>,
    piece: u32,
    /// The piece that is being handed out, and the first byte of the one after it.
    opened: Vec<u8>,
    at: usize,
    ahead: Option<u8>,
    ended: bool,
}

impl<R: Read> BoxReader<R> {
    /// Opens a box with the office key.
    ///
    /// # Errors
    /// [`OpenError::WrongSecret`] when it was sealed for another key; [`OpenError::Format`] when it is none.
    pub fn open(mut from: R, office: &OfficeKey) -> Result<Self, OpenError> {
        let not_one = |why| OpenError::Format(FormatError::Damaged { what: "a box for the office", why });
        let mut head = [0; HEAD];
        from.read_exact(&mut head).map_err(|_| not_one("it is too short"))?;
        let (bound, sealed) = head.split_at(8 + 32);
        if bound[..8] != MAGIC {
            return Err(not_one("it does not begin as one"));
        }
        if bound[8..] != office.public().0 {
            return Err(OpenError::WrongSecret);
        }
        let (encapsulated, wrapped) = sealed.split_at(32);
        let key = open_for_office(office, INFO, bound, encapsulated, wrapped).ok_or(OpenError::WrongSecret)?;
        let key = Zeroizing::new(<[u8; 32]>::try_from(&key[..]).map_err(|_| OpenError::WrongSecret)?);
        Ok(Self { from, key, piece: 0, opened: Vec::new(), at: 0, ahead: None, ended: false })
    }

    fn next_piece(&mut self) -> io::Result<()> {
        let mut sealed: Vec<u8> = self.ahead.take().into_iter().collect();
        let missing = PIECE + TAG - sealed.len();
        (&mut self.from).take(missing as u64).read_to_end(&mut sealed)?;
        let mut byte = [0];
        // Only a whole piece can have one behind it.
        let more = sealed.len() == PIECE + TAG && self.from.read(&mut byte)? == 1;
        self.ahead = more.then_some(byte[0]);
        let opened = open_in_place(&self.key, nonce(self.piece, !more), &[], &mut sealed);
        let len = opened.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, OpenError::Altered))?.len();
        sealed.truncate(len);
        (self.opened, self.at, self.ended) = (sealed, 0, !more);
        self.piece = self.piece.checked_add(1).ok_or(io::ErrorKind::FileTooLarge)?;
        Ok(())
    }
}

impl<R: Read> Read for BoxReader<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        while self.at == self.opened.len() {
            if self.ended {
                return Ok(0);
            }
            self.next_piece()?;
        }
        let n = into.len().min(self.opened.len() - self.at);
        into[..n].copy_from_slice(&self.opened[self.at..self.at + n]);
        self.at += n;
        Ok(n)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::SeededRandom;
    use super::*;

    fn office() -> OfficeKey {
        OfficeKey::generate(&SeededRandom::new(b"office"))
    }

    fn boxed(content: &[u8]) -> Vec<u8> {
        let mut writer = BoxWriter::begin(Vec::new(), &office().public(), &SeededRandom::new(b"box")).expect("begun");
        writer.write_all(content).expect("written");
        writer.finish().expect("finished")
    }

    fn unboxed(bytes: &[u8]) -> io::Result<Vec<u8>> {
        let mut content = Vec::new();
        BoxReader::open(bytes, &office()).map_err(io::Error::other)?.read_to_end(&mut content)?;
        Ok(content)
    }

    #[test]
    fn content_of_any_length_comes_back() {
        for len in [0, 1, PIECE - 1, PIECE, PIECE + 1, 2 * PIECE, 3 * PIECE + 7] {
            let content: Vec<u8> = (0..len).map(|i| (i % 251) as u8).collect();
            assert!(unboxed(&boxed(&content)).expect("opens") == content, "{len} bytes");
        }
    }

    #[test]
    fn another_office_key_opens_nothing() {
        let other = OfficeKey::generate(&SeededRandom::new(b"another"));
        assert!(matches!(BoxReader::open(&boxed(b"x")[..], &other), Err(OpenError::WrongSecret)));
    }

    #[test]
    fn pieces_cannot_be_left_out_swapped_or_cut_off() {
        let content: Vec<u8> = (0..3 * PIECE).map(|i| (i / PIECE) as u8).collect();
        let whole = boxed(&content);
        let piece = |i: usize| HEAD + i * (PIECE + TAG)..HEAD + (i + 1) * (PIECE + TAG);
        let without = |i| [&whole[..piece(i).start], &whole[piece(i).end..]].concat();
        let swapped = [&whole[..HEAD], &whole[piece(1)], &whole[piece(0)], &whole[piece(2)]].concat();
        for altered in [without(0), without(1), without(2), swapped, whole[..whole.len() - 1].to_vec(), whole[..HEAD].to_vec()] {
            assert!(unboxed(&altered).is_err());
        }
    }

    proptest! {
        #[test]
        fn a_flipped_bit_anywhere_is_noticed(at in 0_usize..HEAD + 100 + TAG, bit in 0_u8..8) {
            let mut bytes = boxed(&[7; 100]);
            bytes[at] ^= 1 << bit;
            prop_assert!(unboxed(&bytes).is_err());
        }

        #[test]
        fn what_is_no_box_is_refused(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            prop_assert!(unboxed(&bytes).is_err());
        }
    }
}
