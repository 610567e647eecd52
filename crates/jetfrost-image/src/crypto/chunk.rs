//! Sealing and opening chunks (§ 4).

use std::io::Cursor;

use zstd::zstd_safe::{CParameter, ParamSwitch};

use super::padding::{frame_as_it_is, pad};
use super::random::{Random, random_array};
use super::{NONCE, OpenError, StoreKeys, TAG, open_in_place, seal_in_place};
use crate::format::{FormatError, MAX_CHUNK};
use crate::id::ChunkName;

/// More than a frame takes beside what it holds as it is, padding included.
const FRAMING: usize = 64;
const STORED: u8 = 0;
const ZSTD: u8 = 1;
/// Below this a frame's own head eats what it saves.
const WORTH_COMPRESSING: usize = 64;
/// Bytes from the middle that are tried before a large chunk is compressed whole, when the one before it did not shrink.
const SAMPLE: usize = 16 << 10;

/// How much is done to make chunks smaller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// Time is short: Zstandard's level 1 with a hash table that stays in the processor's nearest cache, only matches of seven
    /// bytes or more, and half of the places passed over where nothing matches. A fifth quicker than level 1, and 9 % larger.
    Quick,
    /// There is time: level 3.
    Thorough,
}

impl Effort {
    fn compressor(self) -> std::io::Result<zstd::bulk::Compressor<'static>> {
        match self {
            Self::Thorough => zstd::bulk::Compressor::new(3),
            Self::Quick => {
                let mut compressor = zstd::bulk::Compressor::new(1)?;
                compressor.set_parameter(CParameter::HashLog(13))?;
                compressor.set_parameter(CParameter::MinMatch(7))?;
                compressor.set_parameter(CParameter::TargetLength(3))?;
                // A target length alone would leave what lies between matches as it is.
                compressor.set_parameter(CParameter::LiteralCompressionMode(ParamSwitch::Enable))?;
                Ok(compressor)
            }
        }
    }
}

/// Seals chunks; keeps its compressor from one to the next.
pub struct Sealer {
    keys: StoreKeys,
    compressor: zstd::bulk::Compressor<'static>,
    /// Whether the last chunk hardly became smaller: the next one is probably of the same kind.
    stubborn: bool,
    /// What samples are compressed into.
    tried: Vec<u8>,
}

impl Sealer {
    /// A sealer for the store of these keys.
    #[must_use]
    pub fn new(keys: StoreKeys, effort: Effort) -> Self {
        let compressor = effort.compressor().expect("the parameters are in Zstandard's ranges");
        Self { keys, compressor, stubborn: false, tried: vec![0; zstd::zstd_safe::compress_bound(SAMPLE)] }
    }

    /// Appends the sealed form of `content`, whose name is `name`, to `out`.
    ///
    /// The key depends on the content alone, so even a repeated nonce could only repeat the same message.
    pub fn seal(&mut self, name: &ChunkName, content: &[u8], random: &dyn Random, out: &mut Vec<u8>) {
        debug_assert!(!content.is_empty() && content.len() <= MAX_CHUNK);
        let nonce: [u8; NONCE] = random_array(random);
        let start = out.len();
        out.extend(nonce);
        out.push(ZSTD);
        let body = start + NONCE + 1;
        if !self.compress(content, out) {
            out.truncate(body);
            if content.len() + FRAMING <= MAX_CHUNK {
                frame_as_it_is(content, out);
            } else {
                // As long as a chunk may be: there is nothing to be hidden.
                out[body - 1] = STORED;
                out.extend(content);
            }
        }
        if out[body - 1] == ZSTD {
            pad(out, body, MAX_CHUNK);
        }
        let key = self.keys.chunk_key(name);
        let tag = seal_in_place(&key, nonce, name.as_bytes(), &mut out[start + NONCE..]);
        out.extend(tag);
    }

    /// Appends the compressed content; says whether that is worth having. If not, there may be anything behind what was there.
    fn compress(&mut self, content: &[u8], out: &mut Vec<u8>) -> bool {
        let doubtful = self.stubborn && content.len() >= 4 * SAMPLE;
        if content.len() < WORTH_COMPRESSING || (doubtful && !self.sample_shrinks(content)) {
            return false;
        }
        out.reserve(zstd::zstd_safe::compress_bound(content.len()));
        let mut behind = Cursor::new(&mut *out);
        behind.set_position(behind.get_ref().len() as u64);
        let len = self.compressor.compress_to_buffer(content, &mut behind).unwrap_or(content.len());
        self.stubborn = !is_worth(len, content.len());
        len < content.len()
    }

    /// Whether a piece from the middle becomes smaller.
    fn sample_shrinks(&mut self, content: &[u8]) -> bool {
        let middle = content.len() / 2;
        let sample = &content[middle..middle + SAMPLE];
        self.compressor.compress_to_buffer(sample, &mut self.tried[..]).is_ok_and(|n| is_worth(n, SAMPLE))
    }
}

/// Whether `len` bytes are so much less than `of` that the work was worth it.
fn is_worth(len: usize, of: usize) -> bool {
    len <= of - of / 32
}

/// Opens chunks; keeps its decompressor and its memory from one to the next.
pub struct Opener {
    keys: StoreKeys,
    decompressor: zstd::bulk::Decompressor<'static>,
    /// What was decompressed last.
    content: Vec<u8>,
}

impl Opener {
    /// An opener for chunks of one store.
    #[must_use]
    pub fn new(keys: StoreKeys) -> Self {
        let decompressor = zstd::bulk::Decompressor::new().expect("a decompressor can be made");
        Self { keys, decompressor, content: Vec::new() }
    }

    /// Opens a sealed chunk and checks that its content has the name.
    ///
    /// # Errors
    /// [`OpenError::Altered`] when it is not what was sealed under this name.
    pub fn open<'o>(&'o mut self, name: &ChunkName, sealed: &'o mut [u8]) -> Result<&'o [u8], OpenError> {
        if sealed.len() < NONCE + 1 + TAG {
            return Err(OpenError::Altered);
        }
        let (nonce, data) = sealed.split_at_mut(NONCE);
        let nonce: [u8; NONCE] = (&*nonce).try_into().expect("split there");
        let opened = open_in_place(&self.keys.chunk_key(name), nonce, name.as_bytes(), data).ok_or(OpenError::Altered)?;
        let (method, body) = opened.split_first().ok_or(OpenError::Altered)?;
        let content = match *method {
            STORED => body,
            ZSTD => {
                self.content.clear();
                self.content.reserve(room_for(body));
                self.decompressor.decompress_to_buffer(body, &mut self.content).map_err(|_| OpenError::Altered)?;
                &self.content
            }
            _ => return Err(FormatError::Damaged { what: "a chunk", why: "its method is unknown" }.into()),
        };
        if content.len() > MAX_CHUNK || self.keys.name(content) != *name {
            return Err(OpenError::Altered);
        }
        Ok(content)
    }
}

/// How much a frame says that it holds, as far as a chunk may hold so much.
fn room_for(frame: &[u8]) -> usize {
    let said = zstd::zstd_safe::get_frame_content_size(frame).ok().flatten();
    said.and_then(|n| usize::try_from(n).ok()).unwrap_or(MAX_CHUNK).min(MAX_CHUNK)
}

/// Opens one sealed chunk; for many, keep an [`Opener`].
///
/// # Errors
/// As [`Opener::open`].
pub fn open_chunk(keys: &StoreKeys, name: &ChunkName, sealed: &mut [u8]) -> Result<Vec<u8>, OpenError> {
    Opener::new(keys.clone()).open(name, sealed).map(<[u8]>::to_vec)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{SeededRandom, StoreKey, SystemRandom};
    use super::*;
    use crate::id::StoreId;

    fn keys() -> StoreKeys {
        StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]))
    }

    fn seal(content: &[u8]) -> (ChunkName, Vec<u8>) {
        let name = keys().name(content);
        let mut sealed = Vec::new();
        Sealer::new(keys(), Effort::Quick).seal(&name, content, &SystemRandom::default(), &mut sealed);
        (name, sealed)
    }

    proptest! {
        #[test]
        fn chunks_round_trip(content in proptest::collection::vec(any::<u8>(), 1..5000), repeat in 1_usize..50) {
            let content = content.repeat(repeat);
            let (name, mut sealed) = seal(&content);
            prop_assert_eq!(open_chunk(&keys(), &name, &mut sealed), Ok(content));
        }

        #[test]
        fn a_flipped_bit_is_an_error(bit in 0_usize..8, seed: usize) {
            let (name, mut sealed) = seal(b"the north jetty, surveyed at low water");
            let at = seed % sealed.len();
            sealed[at] ^= 1 << bit;
            prop_assert_eq!(open_chunk(&keys(), &name, &mut sealed), Err(OpenError::Altered));
        }
    }

    #[test]
    fn what_repeats_shrinks_and_what_does_not_stays() {
        let (_, zeros) = seal(&vec![0; MAX_CHUNK]);
        assert_eq!(zeros.len(), 256 + NONCE + 1 + TAG);
        let mut noise = vec![0; MAX_CHUNK];
        SeededRandom::new(b"noise").fill(&mut noise);
        let (_, sealed) = seal(&noise);
        assert_eq!(sealed.len(), MAX_CHUNK + NONCE + 1 + TAG);
    }

    /// 2,498 of 2,519 small files had the same sealed lengths in two stores, and so could be recognised.
    #[test]
    fn files_of_many_lengths_are_sealed_to_few() {
        let mut noise = vec![0; MAX_CHUNK];
        SeededRandom::new(b"noise").fill(&mut noise);
        let sealed: std::collections::BTreeSet<usize> = (1..4000).map(|len| seal(&noise[..len]).1.len()).collect();
        assert!(sealed.len() < 70, "{}", sealed.len());
        for len in [MAX_CHUNK - 200, MAX_CHUNK - 65, MAX_CHUNK - 64, MAX_CHUNK - 63, MAX_CHUNK - 1] {
            let (name, mut sealed) = seal(&noise[..len]);
            assert!(sealed.len() <= MAX_CHUNK + NONCE + 1 + TAG);
            assert_eq!(open_chunk(&keys(), &name, &mut sealed).as_deref(), Ok(&noise[..len]));
        }
    }

    #[test]
    fn a_sound_chunk_under_another_name_is_an_error() {
        let (_, mut sealed) = seal(b"one");
        let (other, _) = seal(b"two");
        assert_eq!(open_chunk(&keys(), &other, &mut sealed), Err(OpenError::Altered));
    }
}
