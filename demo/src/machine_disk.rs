//! The disk of a virtual machine that runs on one of the workstations.

use std::fs::OpenOptions;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use crate::dice::Dice;

const MIB: u64 = 1 << 20;
const SIZE: u64 = 640 * MIB;
/// Type, first mebibyte, mebibytes.
const PARTITIONS: [(u8, u64, u64); 3] = [(0xef, 1, 64), (0x83, 65, 500), (0x82, 565, 75)];

/// A raw image file with a partition table and some content, most of it empty.
pub(crate) struct MachineDisk {
    pub(crate) path: PathBuf,
    dice: Dice,
}

impl MachineDisk {
    pub(crate) fn new(path: PathBuf) -> Self {
        Self { path, dice: Dice::new("the registry's machine") }
    }

    /// Makes the image as it was installed.
    pub(crate) fn begin(&self) -> io::Result<()> {
        let file = OpenOptions::new().write(true).create_new(true).open(&self.path)?;
        file.set_len(SIZE)?;
        file.write_all_at(&partition_table(), 0)?;
        for extent in [1, 2, 66, 70, 71, 72, 130, 131, 400] {
            file.write_all_at(&self.dice.noise(MIB / 2), extent * MIB)?;
        }
        Ok(())
    }

    /// A week of use changes a few places.
    pub(crate) fn week(&self) -> io::Result<()> {
        let file = OpenOptions::new().write(true).open(&self.path)?;
        (0..3).try_for_each(|_| file.write_all_at(&self.dice.noise(4096), self.dice.between(66, 560) * MIB))
    }
}

fn partition_table() -> [u8; 512] {
    let mut sector = [0; 512];
    for (i, (kind, first, len)) in PARTITIONS.into_iter().enumerate() {
        let at = 446 + 16 * i;
        let sectors = |mib: u64| u32::try_from(mib * MIB / 512).expect("a small disk").to_le_bytes();
        sector[at + 4] = kind;
        sector[at + 8..at + 12].copy_from_slice(&sectors(first));
        sector[at + 12..at + 16].copy_from_slice(&sectors(len));
    }
    sector[510..].copy_from_slice(&[0x55, 0xaa]);
    sector
}
