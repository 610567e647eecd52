//! The walk file: blocks of bytes, each known to whoever refers to it by place, length and hash.
//!
//! A folder is a block that lists its pages; a page holds items, ascending by name: files with what was read of them, and folders with a
//! reference to their own block. What a block refers to stands before it. So a reference to a folder vouches for all that is below it, what is
//! below a folder that did not change is taken over with its reference, and a block is only read, and checked, when it is needed.

use std::fs::File;
use std::io;

use jetfrost_image::ChunkName;
use jetfrost_platform::FileContent;

use super::super::Counts;
use super::super::extents::{Extents, Held};
use super::super::facts::Stamp;
use super::super::form::Form;

/// Where a block is, and what it must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct BlockRef {
    pub(super) at: u64,
    pub(super) len: u32,
    pub(super) hash: [u8; 16],
}

/// What the last walk knew of a file.
#[derive(Debug)]
pub(crate) struct Remembered {
    pub(crate) stamp: Stamp,
    pub(crate) bytes: u64,
    /// What its content looked like.
    pub(crate) form: Form,
    /// The entry as it stands in the listing.
    pub(crate) entry: Vec<u8>,
    /// All chunks behind it.
    pub(crate) names: Vec<ChunkName>,
    /// Of a disk: what each extent held.
    pub(crate) extents: Extents,
}

/// What the last walk knew of a folder.
#[derive(Debug, Clone)]
pub(crate) struct RememberedFolder {
    pub(crate) stamp: Stamp,
    /// The entry as it stands in the listing.
    pub(crate) entry: Vec<u8>,
    /// Chunks of its attributes.
    pub(crate) names: Vec<ChunkName>,
    /// What it holds, if it was gone into.
    pub(crate) inside: Option<RememberedInside>,
}

/// What the last walk knew of what is in a folder.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RememberedInside {
    pub(super) folder: BlockRef,
    /// All that is in it and below.
    pub(crate) counts: Counts,
}

/// An item of a page.
#[derive(Debug)]
pub(super) enum Item {
    Leaf(Vec<u8>, Remembered),
    Folder(Vec<u8>, RememberedFolder),
}

impl Item {
    pub(super) fn name(&self) -> &[u8] {
        match self {
            Self::Leaf(name, _) | Self::Folder(name, _) => name,
        }
    }
}

const LEAF: u8 = 1;
const FOLDER: u8 = 2;

const NOTHING: u8 = 0;
const SOMETHING: u8 = 1;

/// Blocks are no longer than this: a page ends soon after [`super::writer::PAGE`], and a folder's list of pages is short.
const LONGEST: u32 = 1 << 28;

/// Reads a block and checks it.
pub(super) fn read(file: &File, block: BlockRef) -> io::Result<Vec<u8>> {
    if block.len > LONGEST {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut bytes = vec![0; block.len as usize];
    file.read_all_at(&mut bytes, block.at)?;
    if hash_of(&bytes) == block.hash { Ok(bytes) } else { Err(io::ErrorKind::InvalidData.into()) }
}

pub(super) fn hash_of(bytes: &[u8]) -> [u8; 16] {
    *blake3::hash(bytes).as_bytes().first_chunk().expect("a hash has 32 bytes")
}

/// Bytes in the making.
#[derive(Debug, Default)]
pub(super) struct Bytes(pub(super) Vec<u8>);

impl Bytes {
    pub(super) fn leaf(&mut self, name: &[u8], seen: &Remembered) -> io::Result<()> {
        self.0.push(LEAF);
        self.block(name)?;
        self.stamp(&seen.stamp);
        self.0.extend(seen.bytes.to_le_bytes());
        self.0.push(seen.form as u8);
        self.block(&seen.entry)?;
        self.names(&seen.names)?;
        self.length(seen.extents.len())?;
        for held in &seen.extents {
            match held {
                None => self.0.push(NOTHING),
                Some(held) => {
                    self.0.push(SOMETHING);
                    self.0.extend(held.tag);
                    self.0.extend(held.name.as_bytes());
                }
            }
        }
        Ok(())
    }

    pub(super) fn folder(&mut self, name: &[u8], seen: &RememberedFolder) -> io::Result<()> {
        self.0.push(FOLDER);
        self.block(name)?;
        self.stamp(&seen.stamp);
        self.block(&seen.entry)?;
        self.names(&seen.names)?;
        match &seen.inside {
            None => self.0.push(NOTHING),
            Some(inside) => {
                self.0.push(SOMETHING);
                self.reference(&inside.folder);
                let Counts { files, folders, bytes, read: _, skipped, mounts } = inside.counts;
                [files, folders, bytes, skipped, mounts].iter().for_each(|n| self.0.extend(n.to_le_bytes()));
            }
        }
        Ok(())
    }

    pub(super) fn reference(&mut self, to: &BlockRef) {
        self.0.extend(to.at.to_le_bytes());
        self.0.extend(to.len.to_le_bytes());
        self.0.extend(to.hash);
    }

    pub(super) fn names(&mut self, names: &[ChunkName]) -> io::Result<()> {
        self.length(names.len() * ChunkName::LEN)?;
        names.iter().for_each(|name| self.0.extend(name.as_bytes()));
        Ok(())
    }

    pub(super) fn stamp(&mut self, stamp: &Stamp) {
        [stamp.device, stamp.inode, stamp.size].iter().for_each(|n| self.0.extend(n.to_le_bytes()));
        [stamp.mtime, stamp.ctime].iter().for_each(|n| self.0.extend(n.to_le_bytes()));
    }

    pub(super) fn block(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.length(bytes.len())?;
        self.0.extend(bytes);
        Ok(())
    }

    fn length(&mut self, len: usize) -> io::Result<()> {
        let len = u32::try_from(len).map_err(|_| io::ErrorKind::InvalidInput)?;
        self.0.extend(len.to_le_bytes());
        Ok(())
    }
}

/// Bytes of a block that are not read yet.
pub(super) struct Fields<'f>(pub(super) &'f [u8]);

impl<'f> Fields<'f> {
    pub(super) fn item(&mut self) -> io::Result<Item> {
        match self.bytes::<1>()?[0] {
            LEAF => Ok(Item::Leaf(self.block()?.to_vec(), self.remembered()?)),
            FOLDER => Ok(Item::Folder(self.block()?.to_vec(), self.remembered_folder()?)),
            _ => Err(io::ErrorKind::InvalidData.into()),
        }
    }

    fn remembered(&mut self) -> io::Result<Remembered> {
        Ok(Remembered {
            stamp: self.stamp()?,
            bytes: self.number()?,
            form: self.form()?,
            entry: self.block()?.to_vec(),
            names: self.names()?,
            extents: self.extents()?,
        })
    }

    fn form(&mut self) -> io::Result<Form> {
        let [number] = self.bytes()?;
        Form::from_number(number).ok_or_else(|| io::ErrorKind::InvalidData.into())
    }

    fn remembered_folder(&mut self) -> io::Result<RememberedFolder> {
        let (stamp, entry, names) = (self.stamp()?, self.block()?.to_vec(), self.names()?);
        let inside = match self.bytes()? {
            [NOTHING] => None,
            [SOMETHING] => {
                let folder = self.reference()?;
                let (files, folders, bytes) = (self.number()?, self.number()?, self.number()?);
                let (skipped, mounts) = (self.number()?, self.number()?);
                Some(RememberedInside { folder, counts: Counts { files, folders, bytes, read: 0, skipped, mounts } })
            }
            _ => return Err(io::ErrorKind::InvalidData.into()),
        };
        Ok(RememberedFolder { stamp, entry, names, inside })
    }

    fn extents(&mut self) -> io::Result<Extents> {
        let number = u32::from_le_bytes(self.bytes()?);
        let extent = |fields: &mut Self| match fields.bytes()? {
            [NOTHING] => Ok(None),
            [SOMETHING] => Ok(Some(Held { tag: fields.bytes()?, name: ChunkName(fields.bytes()?) })),
            _ => Err(io::ErrorKind::InvalidData.into()),
        };
        (0..number).map(|_| extent(self)).collect()
    }

    pub(super) fn reference(&mut self) -> io::Result<BlockRef> {
        Ok(BlockRef { at: self.number()?, len: u32::from_le_bytes(self.bytes()?), hash: self.bytes()? })
    }

    pub(super) fn names(&mut self) -> io::Result<Vec<ChunkName>> {
        Ok(self.block()?.chunks_exact(ChunkName::LEN).map(|n| ChunkName(n.try_into().expect("exact"))).collect())
    }

    pub(super) fn stamp(&mut self) -> io::Result<Stamp> {
        Ok(Stamp {
            device: self.number()?,
            inode: self.number()?,
            size: self.number()?,
            mtime: i128::from_le_bytes(self.bytes()?),
            ctime: i128::from_le_bytes(self.bytes()?),
        })
    }

    pub(super) fn number(&mut self) -> io::Result<u64> {
        Ok(u64::from_le_bytes(self.bytes()?))
    }

    pub(super) fn bytes<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        Ok(self.take(N)?.try_into().expect("as many as asked for"))
    }

    pub(super) fn block(&mut self) -> io::Result<&'f [u8]> {
        let len = u32::from_le_bytes(self.bytes()?) as usize;
        self.take(len)
    }

    fn take(&mut self, n: usize) -> io::Result<&'f [u8]> {
        let (taken, rest) = self.0.split_at_checked(n).ok_or(io::ErrorKind::InvalidData)?;
        self.0 = rest;
        Ok(taken)
    }
}
