//! Partition tables of disks that anybody may have written.
#![no_main]

use jetfrost_client::disk::partitions::Table;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|disk: &[u8]| {
    let read = |offset: u64, len: usize| {
        let from = usize::try_from(offset).map_or(disk.len(), |offset| offset.min(disk.len()));
        Ok::<_, std::convert::Infallible>(disk[from..disk.len().min(from.saturating_add(len))].to_vec())
    };
    let Ok(table) = Table::read(disk.len() as u64, read);
    if let Some(table) = table {
        assert!(table.partitions.len() <= 512 + 4);
    }
});
