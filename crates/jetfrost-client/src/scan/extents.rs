//! Reading a disk: fixed extents, several at a time; what is all zeros is a hole.

use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::sync::{Mutex, PoisonError};

use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::Part;
use jetfrost_image::tree::ChunkSink;

use super::file::{ReadFailure, Stretch, stretches};
use crate::error::ClientError;
use crate::progress::Meter;

/// Bytes of an extent: one chunk.
const EXTENT: u64 = 1 << 20;
/// Where an extent cannot be read, it is read again in blocks of this size, and only those are lost that fail.
const BLOCK: usize = 4096;
/// Extents that wait to be taken by the next stage.
const WAITING: usize = 4;

/// What came of reading a disk.
pub(super) struct DiskRead {
    pub(super) parts: Vec<Part>,
    /// Stretches that the disk did not give; zeros stand in their place.
    pub(super) unreadable: Vec<Range<u64>>,
}

/// An extent that was read: its number, and its name and bytes unless all of them are zeros.
struct Extent {
    number: u64,
    content: Option<(ChunkName, Vec<u8>)>,
    unreadable: Vec<Range<u64>>,
}

/// Reads the first `len` bytes of a disk.
///
/// # Errors
/// Of the sink; [`ClientError::Stopped`].
pub(super) fn read_extents<S: ChunkSink<Error = ClientError>>(
    keys: &StoreKeys,
    sink: &mut S,
    file: &File,
    len: u64,
    meter: &Meter,
) -> Result<DiskRead, ReadFailure> {
    let wanted = with_data(file, len)?;
    meter.bytes_done(len - wanted.iter().map(|number| length(*number, len)).sum::<u64>());
    let mut names: Vec<Option<ChunkName>> = vec![None; usize::try_from(len.div_ceil(EXTENT)).unwrap_or(usize::MAX)];
    let mut unreadable = Vec::new();
    let next = Mutex::new(wanted.into_iter());
    let (out, read) = bounded::<Extent>(WAITING);
    let (give_back, buffers) = bounded::<Vec<u8>>(WAITING);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from).min(4) {
            let (reader, out, buffers) = (Reader { keys, file, len, next: &next }, out.clone(), buffers.clone());
            scope.spawn(move || reader.run(&out, &buffers));
        }
        drop(out);
        for extent in read {
            if meter.is_stopped() {
                return Err(ReadFailure::Run(ClientError::Stopped));
            }
            if let Some((name, bytes)) = extent.content {
                sink.put(name, &bytes)?;
                names[usize::try_from(extent.number).expect("an index of this list")] = Some(name);
                // There is always a reader that takes it, or nobody needs it any more.
                let _ = give_back.try_send(bytes);
            }
            unreadable.extend(extent.unreadable);
            meter.bytes_done(length(extent.number, len));
        }
        Ok(())
    })?;
    Ok(DiskRead { parts: parts(&names, len), unreadable: joined(unreadable) })
}

/// The numbers of the extents that are not holes, as far as the file system knows.
fn with_data(file: &File, len: u64) -> Result<Vec<u64>, ReadFailure> {
    let mut numbers: Vec<u64> = Vec::new();
    for stretch in stretches(file, len)? {
        if let Stretch::Data(from, to) = stretch {
            let first = (from / EXTENT).max(numbers.last().map_or(0, |last| last + 1));
            numbers.extend(first..to.div_ceil(EXTENT));
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
fn parts(names: &[Option<ChunkName>], len: u64) -> Vec<Part> {
    let mut parts: Vec<Part> = Vec::new();
    for (number, name) in (0_u64..).zip(names) {
        let bytes = length(number, len);
        match parts.last_mut() {
            Some(hole) if hole.name.is_none() && name.is_none() => hole.len += bytes,
            _ => parts.push(Part { len: bytes, name: *name }),
        }
    }
    parts
}

struct Reader<'r, I> {
    keys: &'r StoreKeys,
    file: &'r File,
    len: u64,
    next: &'r Mutex<I>,
}

impl<I: Iterator<Item = u64>> Reader<'_, I> {
    /// Reads one extent after the other until there are no more, or nobody takes them.
    fn run(&self, out: &Sender<Extent>, buffers: &Receiver<Vec<u8>>) {
        loop {
            let Some(number) = self.next.lock().unwrap_or_else(PoisonError::into_inner).next() else { return };
            let mut bytes = buffers.try_recv().unwrap_or_default();
            bytes.resize(usize::try_from(length(number, self.len)).expect("an extent fits into memory"), 0);
            let unreadable = read_block_by_block(self.file, &mut bytes, number * EXTENT);
            let content = if is_zero(&bytes) { None } else { Some((self.keys.name(&bytes), bytes)) };
            if out.send(Extent { number, content, unreadable }).is_err() {
                return;
            }
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
        match file.read_at(&mut bytes[filled..], offset + filled as u64) {
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
    use std::collections::HashMap;
    use std::io::Write;

    use jetfrost_image::StoreId;
    use jetfrost_image::crypto::StoreKey;

    use super::*;

    #[derive(Default)]
    struct Chunks(HashMap<ChunkName, Vec<u8>>);

    impl ChunkSink for Chunks {
        type Error = ClientError;

        fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<(), ClientError> {
            self.0.insert(name, content.to_vec());
            Ok(())
        }
    }

    fn read(file: &File, len: u64) -> (Chunks, DiskRead) {
        let keys = StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]));
        let mut chunks = Chunks::default();
        let Ok(read) = read_extents(&keys, &mut chunks, file, len, &Meter::default()) else { panic!("read") };
        (chunks, read)
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
