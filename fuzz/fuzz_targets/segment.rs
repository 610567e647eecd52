//! Segments, scanned in pieces and read from their footer: both agree on whatever is sound.
#![no_main]

use jetfrost_image::StoreId;
use jetfrost_image::format::{FormatError, SegmentScanner, read_footer};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (u8, &[u8])| {
    let (piece, bytes) = input;
    let store = StoreId(*b"vector store 001");
    let mut scanner = SegmentScanner::new(store);
    let scanned = bytes.chunks(usize::from(piece) + 1).try_for_each(|p| scanner.push(p)).and_then(|()| scanner.finish());
    let footer = read_footer(store, bytes.len() as u64, |at, n| Ok::<_, FormatError>(bytes[at as usize..at as usize + n].to_vec()));
    if let Ok((_, entries)) = scanned {
        assert_eq!(footer, Ok(entries));
    }
});
