//! Needs files in pieces of any size.
#![no_main]

use jetfrost_image::format::{FormatError, NeedsScanner};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (u8, &[u8])| {
    let (piece, bytes) = input;
    let mut scanner = NeedsScanner::default();
    let mut names = 0_u64;
    let pushed = bytes.chunks(usize::from(piece) + 1).try_for_each(|p| {
        scanner.push(p, |_, _| {
            names += 1;
            Ok::<_, FormatError>(())
        })
    });
    if let Ok(summary) = pushed.and_then(|()| scanner.finish()) {
        assert_eq!(names, summary.head.added + summary.head.removed);
    }
});
