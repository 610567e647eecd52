//! The binary bodies of chunk calls: names one after another, and chunks one after another.
//!
//! A request is any number of 32-byte names, [`MOST_NAMES`] at most. `chunks/missing` answers one byte a name: 1 when it
//! is missing, else 0. `chunks/fetch` answers a frame a name, in order: status (one byte), length (u32,
//! little-endian), sealed bytes. `chunks/near-damage` takes nothing and answers, for each segment that was set aside as damaged, its
//! hash (32 bytes), a number (u32, little-endian) and as many names: of its chunks those that are in the store.

/// Length of a chunk's name.
pub const NAME: usize = 32;
/// Names a call, at most.
pub const MOST_NAMES: usize = 4096;
/// Length of a frame's head.
pub const FRAME_HEAD: usize = 5;

/// Length of what the names near damage begin with, a segment's hash and their number.
pub const DAMAGED_HEAD: usize = 36;

/// What the names near the damage of a segment begin with.
#[must_use]
pub fn damaged_head(segment: &[u8; 32], names: u32) -> [u8; DAMAGED_HEAD] {
    let mut head = [0; DAMAGED_HEAD];
    head[..32].copy_from_slice(segment);
    head[32..].copy_from_slice(&names.to_le_bytes());
    head
}

/// What a frame says of its chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FrameStatus {
    /// The sealed bytes follow.
    Sound = 0,
    /// It is not in the store.
    Missing = 1,
    /// Its stored bytes are damaged.
    Damaged = 2,
}

impl FrameStatus {
    /// Reads a status byte.
    #[must_use]
    pub fn from_byte(byte: u8) -> Option<Self> {
        match byte {
            0 => Some(Self::Sound),
            1 => Some(Self::Missing),
            2 => Some(Self::Damaged),
            _ => None,
        }
    }

    /// The head of a frame with `len` sealed bytes.
    #[must_use]
    pub fn frame_head(self, len: u32) -> [u8; FRAME_HEAD] {
        let mut head = [self as u8, 0, 0, 0, 0];
        head[1..].copy_from_slice(&len.to_le_bytes());
        head
    }
}
