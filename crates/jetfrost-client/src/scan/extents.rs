//! Reading a disk: fixed extents, several at a time; what is all zeros is a hole.
//!
//! An extent that is as the last run saw it keeps its name. That is decided by an AEGIS-128L authentication code
//! (draft-irtf-cfrg-aegis-aead) over all its bytes, under a key of the store that never leaves this machine: a run over a disk
//! of which little changed takes three quarters of the time that it takes to name all extents anew.

use std::fs::File;
use std::io;
use std::ops::Range;
use std::sync::{Mutex, PoisonError};

use aegis::aegis128l::Aegis128LMac;
use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::Part;
use jetfrost_image::tree::{ChunkBuffer, ChunkSink};
use jetfrost_platform::{FileContent, Stretch};

use super::file::ReadFailure;
use crate::error::ClientError;
use crate::progress::Meter;

/// Bytes of an extent: one chunk.
const EXTENT: u64 = 1 << 20;
/// Where an extent cannot be read, it is read again in blocks of this size, and only those are lost that fail.
const BLOCK: usize = 4096;
/// Extents that wait to be taken by the next stage.
const WAITING: usize = 4;

/// What an extent held when it was read last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Held {
    pub(super) tag: Tag,
    pub(super) name: ChunkName,
}

/// An extent's authentication code.
pub(super) type Tag = [u8; 16];

/// The extents of a disk, by number; `None` for holes and zeros.
pub(crate) type Extents = Vec<Option<Held>>;

/// What came of reading a disk.
pub(super) struct DiskRead {
    pub(super) parts: Vec<Part>,
    pub(super) extents: Extents,
    /// Stretches that the disk did not give; zeros stand in their place.
    pub(super) unreadable: Vec<Range<u64>>,
}

/// An extent that was read.
struct Extent {
    number: u64,
    held: Option<Held>,
    bytes: ChunkBuffer,
    /// Whether the last run saw the same.
    is_known: bool,
    unreadable: Vec<Range<u64>>,
}

/// Reads the first `len` bytes of a disk. `known` is what the last run saw; only what differs from it goes to the sink.
///
/// # Errors
/// Of the sink; [`ClientError::Stopped`].
pub(super) fn read_extents<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    sink: &mut S,
    file: &File,
    len: u64,
    known: &[Option<Held>],
    meter: &Meter,
) -> Result<DiskRead, ReadFailure> {
    let wanted = with_data(file, len)?;
    meter.bytes_done(len - wanted.iter().map(|number| length(*number, len)).sum::<u64>());
    let mut extents: Extents = vec![None; in_memory(len.div_ceil(EXTENT))];
    let mut unreadable = Vec::new();
    let next = Mutex::new(wanted.into_iter());
    let (out, read) = bounded::<Extent>(WAITING);
    let (give_back, buffers) = bounded::<ChunkBuffer>(WAITING);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from).min(4) {
            let reader = Reader { keys, key: keys.memory_key(), file, len, known, next: &next };
            let (out, buffers) = (out.clone(), buffers.clone());
            scope.spawn(move || reader.run(&out, &buffers));
        }
        drop(out);
        for mut extent in read {
            if meter.is_stopped() {
                return Err(ReadFailure::Run(ClientError::Stopped));
            }
            if let Some(held) = extent.held.filter(|_| !extent.is_known) {
                sink.put_buffer(held.name, &mut extent.bytes, in_memory(length(extent.number, len)))?;
            }
            extents[in_memory(extent.number)] = extent.held;
            // There is always a reader that takes it, or nobody needs it any more.
            let _ = give_back.try_send(extent.bytes);
            unreadable.extend(extent.unreadable);
            meter.bytes_done(length(extent.number, len));
        }
        Ok(())
    })?;
    Ok(DiskRead { parts: parts(&extents, len), extents, unreadable: joined(unreadable) })
}

/// A number or a length of extents, as lists and buffers take it.
fn in_memory(number: u64) -> usize {
    usize::try_from(number).expect("a list of a disk's extents fits into memory")
}

/// The numbers of the extents that are not holes, as far as the file system knows.
fn with_data(file: &File, len: u64) -> Result<Vec<u64>, ReadFailure> {
    let mut numbers: Vec<u64> = Vec::new();
    for stretch in file.stretches(len)? {
        if let Stretch::Data(data) = stretch {
            let first = (data.start / EXTENT).max(numbers.last().map_or(0, |last| last + 1));
            numbers.extend(first..data.end.div_ceil(EXTENT));
        }
    }
    Ok(numbers)
}

/// Bytes of an extent: the last one may be shorter.
fn length(number: u64, len: u64) -> u64 {
    EXTENT.min(len - number * EXTENT)
}

/// Stretches in order; those that touch are one.
fn joined(mut stretches: Vec<Range<u64>>) -> Vec<Range<u64>> {
    stretches.sort_by_key(|stretch| stretch.start);
    stretches.dedup_by(|next, before| {
        let touch = before.end == next.start;
        if touch {
            before.end = next.end;
        }
        touch
    });
    stretches
}

/// The content parts; holes side by side are one.
fn parts(extents: &[Option<Held>], len: u64) -> Vec<Part> {
    let mut parts: Vec<Part> = Vec::new();
    for (number, held) in (0_u64..).zip(extents) {
        let name = held.map(|held| held.name);
        let bytes = length(number, len);
        match parts.last_mut() {
            Some(hole) if hole.name.is_none() && name.is_none() => hole.len += bytes,
            _ => parts.push(Part { len: bytes, name }),
        }
    }
    parts
}

struct Reader<'r, I> {
    keys: &'r StoreKeys,
    key: Tag,
    file: &'r File,
    len: u64,
    known: &'r [Option<Held>],
    next: &'r Mutex<I>,
}

impl<I: Iterator<Item = u64>> Reader<'_, I> {
    /// Reads one extent after the other until there are no more, or nobody takes them.
    fn run(&self, out: &Sender<Extent>, buffers: &Receiver<ChunkBuffer>) {
        loop {
            let Some(number) = self.next.lock().unwrap_or_else(PoisonError::into_inner).next() else { return };
            let mut bytes = buffers.try_recv().unwrap_or_default();
            let content = &mut bytes[..in_memory(length(number, self.len))];
            let unreadable = read_block_by_block(self.file, content, number * EXTENT);
            let (held, is_known) = self.look(number, content);
            if out.send(Extent { number, held, bytes, is_known, unreadable }).is_err() {
                return;
            }
        }
    }

    /// What an extent holds, and whether the last run saw the same.
    fn look(&self, number: u64, bytes: &[u8]) -> (Option<Held>, bool) {
        if is_zero(bytes) {
            return (None, false);
        }
        let mut code = Aegis128LMac::<16>::new(&self.key);
        code.update(bytes);
        let tag = code.finalize();
        let known = self.known.get(in_memory(number)).copied().flatten().filter(|held| held.tag == tag);
        match known {
            Some(held) => (Some(held), true),
            None => (Some(Held { tag, name: self.keys.name(bytes) }), false),
        }
    }
}

/// Reads what can be read; the rest is zeros. Returns what could not be read.
fn read_block_by_block(file: &File, bytes: &mut [u8], offset: u64) -> Vec<Range<u64>> {
    if fill(file, bytes, offset).is_ok() {
        return Vec::new();
    }
    let mut unreadable = Vec::new();
    for (at, block) in (offset..).step_by(BLOCK).zip(bytes.chunks_mut(BLOCK)) {
        if fill(file, block, at).is_err() {
            block.fill(0);
            unreadable.push(at..at + block.len() as u64);
        }
    }
    unreadable
}

/// Reads until the buffer is full; beyond the end of a file that became shorter there are zeros.
fn fill(file: &File, bytes: &mut [u8], offset: u64) -> io::Result<()> {
    let mut filled = 0;
    while filled < bytes.len() {
        match file.read_some_at(&mut bytes[filled..], offset + filled as u64) {
            Ok(0) => break,
            Ok(n) => filled += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    bytes[filled..].fill(0);
    Ok(())
}

/// Whether all bytes are zeros; by words, since most of a disk is looked at only for this.
pub(crate) fn is_zero(bytes: &[u8]) -> bool {
    let (words, rest) = bytes.as_chunks::<64>();
    words.iter().all(|word| *word == [0; 64]) && rest.iter().all(|byte| *byte == 0)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::super::testing::{Chunks, keys};
    use super::*;

    fn read(file: &File, len: u64) -> (Chunks, DiskRead) {
        read_knowing(file, len, &[])
    }

    fn read_knowing(file: &File, len: u64, known: &[Option<Held>]) -> (Chunks, DiskRead) {
        let mut chunks = Chunks::default();
        let Ok(read) = read_extents(&keys(), &mut chunks, file, len, known, &Meter::default()) else { panic!("read") };
        (chunks, read)
    }

    #[test]
    fn only_what_differs_from_the_last_run_goes_on_and_the_disk_comes_out_the_same() {
        let mut file = tempfile::tempfile().expect("a file");
        let data: Vec<u8> = (0..4 * EXTENT).map(|i| u8::try_from(i % 251).expect("small")).collect();
        file.write_all(&data).expect("written");
        let (all, first) = read(&file, 4 * EXTENT);
        assert_eq!(all.0.len(), 4);
        let (none, again) = read_knowing(&file, 4 * EXTENT, &first.extents);
        assert!(none.0.is_empty() && again.parts == first.parts && again.extents == first.extents);
        // One bit in one, zeros in another, and the disk became longer.
        file.write_at_offset(&[data[0] ^ 1], 0).expect("written");
        file.write_at_offset(&vec![0; EXTENT as usize], 2 * EXTENT).expect("written");
        file.write_at_offset(b"more", 5 * EXTENT - 4).expect("written");
        let (changed, read_anew) = read_knowing(&file, 5 * EXTENT, &first.extents);
        let (_, without_memory) = read(&file, 5 * EXTENT);
        assert_eq!(changed.0.len(), 2);
        assert!(read_anew.parts == without_memory.parts && read_anew.extents == without_memory.extents);
    }

    #[test]
    fn a_disk_of_any_length_comes_back_and_zeros_cost_nothing() {
        for tail in [0, 1, 4096, EXTENT - 1] {
            let mut file = tempfile::tempfile().expect("a file");
            let data: Vec<u8> = (0..EXTENT + 7).map(|i| u8::try_from(i % 251).expect("small")).collect();
            file.write_all(&data).expect("written");
            // Zeros that are written, and a hole.
            file.write_all(&vec![0; 2 * EXTENT as usize]).expect("written");
            let len = 40 * EXTENT + tail;
            file.set_len(len).expect("longer");
            let (chunks, read) = read(&file, len);
            assert_eq!(chunks.0.len(), 2);
            assert_eq!(read.parts.len(), 3, "two extents, and all else is one hole");
            assert_eq!(read.parts.iter().map(|p| p.len).sum::<u64>(), len);
            let back: Vec<u8> = read.parts[..2].iter().flat_map(|p| chunks.0[&p.name.expect("data")].clone()).collect();
            assert!(back[..data.len()] == data && is_zero(&back[data.len()..]));
        }
    }

    #[test]
    fn a_disk_that_became_shorter_is_zeros_from_there() {
        let mut file = tempfile::tempfile().expect("a file");
        file.write_all(&[7; 100]).expect("written");
        let (chunks, read) = read(&file, EXTENT);
        let content = &chunks.0[&read.parts[0].name.expect("data")];
        assert_eq!((content[99], content[100], content.len() as u64), (7, 0, EXTENT));
    }

    #[test]
    fn stretches_that_touch_are_told_as_one() {
        assert_eq!(joined(vec![8..12, 0..4, 4..8, 20..24]), [0..12, 20..24]);
    }

    #[test]
    fn a_single_byte_is_not_zero_wherever_it_is() {
        for at in [0, 63, 64, 999] {
            let mut bytes = vec![0; 1000];
            assert!(is_zero(&bytes));
            bytes[at] = 1;
            assert!(!is_zero(&bytes), "{at}");
        }
    }
}
