//! Points, their bodies, listings and lists of exceptions; what is read is written back as it was.
#![no_main]

use jetfrost_image::format::{EntryPage, PointBody, PointFile, exceptions_from_page};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(file) = PointFile::from_bytes(bytes) {
        assert_eq!(PointFile::from_bytes(&file.to_bytes()), Ok(file));
    }
    if let Ok(body) = PointBody::from_bytes(bytes) {
        assert_eq!(PointBody::from_bytes(&body.to_bytes()), Ok(body));
    }
    if let Ok(entries) = EntryPage::read(bytes) {
        let again: Vec<u8> = entries.iter().flat_map(|e| e.to_bytes()).collect();
        assert_eq!(EntryPage::read(&again), Ok(entries));
    }
    let _ = exceptions_from_page(bytes);
});
