//! The text of a roster: whatever it is, it is read without a panic, and every fault has its line.
#![no_main]

use jetfrost_office::roster::{Office, plan, read};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let lines = text.lines().count() as u64 + 1;
    let reading = read(text, |size| size.parse().ok());
    assert!(reading.faults.iter().all(|fault| (1..=lines).contains(&fault.line)));
    let _ = plan(&reading, &Office::default());
});
