//! The content of open files: holes by `lseek(2)` and `fallocate(2)`.

use std::fs::{File, OpenOptions};
use std::io;
use std::ops::Range;
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;

use nix::errno::Errno;
use nix::fcntl::{FallocateFlags, PosixFadviseAdvice, fallocate, posix_fadvise};
use nix::sys::stat::fstat;
use nix::unistd::{Whence, lseek64};

use crate::{FileContent, Metadata, Stretch};

impl FileContent for File {
    fn metadata_now(&self) -> io::Result<Metadata> {
        Ok(Metadata::of(&fstat(self)?))
    }

    fn read_some_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        self.read_at(buffer, offset)
    }

    fn read_all_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        self.read_exact_at(buffer, offset)
    }

    fn write_at_offset(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        self.write_all_at(bytes, offset)
    }

    fn next_data(&self, offset: u64) -> io::Result<Option<u64>> {
        match lseek64(self, offset.cast_signed(), Whence::SeekData) {
            Ok(data) => Ok(Some(data.cast_unsigned().max(offset))),
            Err(Errno::ENXIO) => Ok(None),
            // A block device knows of no holes.
            Err(Errno::EINVAL) => Ok(Some(offset)),
            Err(e) => Err(e.into()),
        }
    }

    fn stretches(&self, size: u64) -> io::Result<Vec<Stretch>> {
        let mut stretches = Vec::new();
        let mut at = 0;
        while at < size {
            let data = self.next_data(at)?.map_or(size, |data| data.min(size));
            if data > at {
                stretches.push(Stretch::Hole(at..data));
            }
            at = size;
            if data < size {
                at = match lseek64(self, data.cast_signed(), Whence::SeekHole) {
                    Ok(hole) => hole.cast_unsigned().min(size),
                    Err(Errno::EINVAL) => size,
                    Err(e) => return Err(e.into()),
                };
                stretches.push(Stretch::Data(data..at));
            }
        }
        Ok(stretches)
    }

    fn punch_hole(&self, range: Range<u64>) -> io::Result<()> {
        let punch = FallocateFlags::FALLOC_FL_PUNCH_HOLE | FallocateFlags::FALLOC_FL_KEEP_SIZE;
        Ok(fallocate(self, punch, range.start.cast_signed(), (range.end - range.start).cast_signed())?)
    }

    fn forget_cached(&self) {
        let _ = posix_fadvise(self, 0, 0, PosixFadviseAdvice::POSIX_FADV_DONTNEED);
    }

    fn open_again_for_writing(&self) -> io::Result<File> {
        OpenOptions::new().write(true).open(format!("/proc/self/fd/{}", self.as_raw_fd()))
    }
}
