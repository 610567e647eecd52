//! Lengths that say little: what is sealed is padded, so that files of many lengths are sealed to the same one (§ 4).

/// Shorter ones are all padded to this.
const SHORTEST: usize = 256;
/// A skippable frame of Zstandard (RFC 8878, section 3.1.2): magic, length, and bytes that every reader passes over.
const SKIPPABLE: [u8; 4] = 0x184D_2A50_u32.to_le_bytes();
const SKIPPABLE_HEAD: usize = 8;
const FRAME: [u8; 4] = 0xFD2F_B528_u32.to_le_bytes();
/// Content size in four bytes, a single segment, no checksum, no dictionary (section 3.1.1.1).
const FRAME_DESCRIPTOR: u8 = 0b1010_0000;
/// The most that a block holds (section 3.1.1.2.4).
const BLOCK: usize = 128 << 10;

/// The length that `len` is padded to: of the number only so many leading bits are kept as its own length has in binary, so that at
/// most an eighth is added and the lengths below 2^n are few (Nikitin, Barman, Lueks, Underwood, Hubaux, Ford: Reducing Metadata
/// Leakage from Encrypted Files and Communication with PURBs, PoPETs 2019, section 4).
pub(super) fn padded(len: usize) -> usize {
    let len = len.max(SHORTEST);
    let exponent = len.ilog2();
    let kept = exponent.ilog2() + 1;
    let mask = (1 << (exponent - kept)) - 1;
    (len + mask) & !mask
}

/// Pads what lies in `out` from `start`, which is whole frames, to `most` at most; what is so long already stays as it is.
pub(super) fn pad(out: &mut Vec<u8>, start: usize, most: usize) {
    let len = out.len() - start;
    let wanted = padded(len + SKIPPABLE_HEAD).min(most);
    let Some(room) = wanted.checked_sub(len + SKIPPABLE_HEAD) else { return };
    out.extend(SKIPPABLE);
    out.extend(u32::try_from(room).expect("a chunk is a mebibyte at most").to_le_bytes());
    out.resize(start + wanted, 0);
}

/// Appends a frame that holds `content` as it is.
pub(super) fn frame_as_it_is(content: &[u8], out: &mut Vec<u8>) {
    out.extend(FRAME);
    out.push(FRAME_DESCRIPTOR);
    out.extend(u32::try_from(content.len()).expect("a chunk is a mebibyte at most").to_le_bytes());
    let blocks = content.len().div_ceil(BLOCK);
    for (i, block) in content.chunks(BLOCK).enumerate() {
        let is_last = usize::from(i + 1 == blocks);
        out.extend(&(block.len() << 3 | is_last).to_le_bytes()[..3]);
        out.extend(block);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_mebibyte_of_lengths_becomes_few_and_costs_an_eighth_at_most() {
        let lengths: BTreeSet<usize> = (1..=1 << 20).map(padded).collect();
        assert!(lengths.len() < 260, "{}", lengths.len());
        assert!((SHORTEST..1 << 20).all(|len| padded(len) >= len && padded(len) - len <= len / 8));
    }

    proptest! {
        #[test]
        fn what_is_framed_and_padded_reads_back(content in proptest::collection::vec(any::<u8>(), 1..300_000), most in 0_usize..400_000) {
            let mut out = b"before".to_vec();
            frame_as_it_is(&content, &mut out);
            pad(&mut out, 6, most);
            let read = zstd::bulk::decompress(&out[6..], 1 << 20);
            prop_assert_eq!(read.expect("a frame"), content);
        }
    }
}
