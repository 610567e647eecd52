//! Tree entries and the pages of a listing (§ 6).

use minicbor::bytes::ByteVec;
use minicbor::{Decode, Encode};

use super::{Content, FormatError, from_cbor_sequence, to_cbor};

const WHAT: &str = "a folder's listing";

/// A page ends when it has reached this many bytes.
const MAX_PAGE: usize = 256 << 10;
/// An entry has no more bytes, so that every page is a chunk.
pub const MAX_ENTRY: usize = 512 << 10;
const _: () = assert!(MAX_PAGE + MAX_ENTRY <= super::MAX_CHUNK);

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Encode, Decode)]
#[cbor(index_only)]
pub enum EntryKind {
    /// A regular file.
    #[n(1)]
    File,
    /// A directory.
    #[n(2)]
    Directory,
    /// A symbolic link.
    #[n(3)]
    Symlink,
    /// A named pipe.
    #[n(4)]
    Fifo,
    /// A character device.
    #[n(5)]
    CharDevice,
    /// A block device.
    #[n(6)]
    BlockDevice,
    /// A socket.
    #[n(7)]
    Socket,
}

/// What a reader should know about an entry's completeness.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Flags {
    /// The file kept changing while it was read.
    pub unsettled: bool,
    /// The directory could not be listed whole.
    pub partial: bool,
}

/// One name in a directory, with all that is kept about it.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Entry {
    /// The name; any bytes but `/` and NUL.
    #[cbor(n(0), with = "minicbor::bytes")]
    pub name: Vec<u8>,
    /// What it is.
    #[n(1)]
    pub kind: EntryKind,
    /// Permission bits, `0o7777` at most.
    #[n(2)]
    pub mode: u32,
    /// Owner id.
    #[n(3)]
    pub uid: u32,
    /// Group id.
    #[n(4)]
    pub gid: u32,
    /// Owner name, where known.
    #[n(5)]
    pub owner: Option<String>,
    /// Group name, where known.
    #[n(6)]
    pub group: Option<String>,
    /// Modification time: seconds since 1970.
    #[n(7)]
    pub mtime: i64,
    /// Modification time: nanoseconds within the second.
    #[n(8)]
    pub mtime_nanos: u32,
    /// The content of a file or, in a point of kind disk, of a block device; the listing of a directory.
    #[n(9)]
    pub content: Option<Content>,
    /// Where a symbolic link points.
    #[n(10)]
    pub target: Option<ByteVec>,
    /// Major and minor number of a device.
    #[n(11)]
    pub device: Option<(u32, u32)>,
    /// Extended attributes by name, ascending.
    #[n(12)]
    pub xattrs: Option<Vec<(ByteVec, ByteVec)>>,
    /// Device and inode of a file with several links.
    #[n(13)]
    pub links: Option<(u64, u64)>,
    #[n(14)]
    pub(crate) flags: Option<u32>,
    /// Extended attributes whose values are content of their own, by name, ascending; none that is among `xattrs` as well.
    #[n(15)]
    pub large_xattrs: Option<Vec<LargeAttribute>>,
}

/// An attribute whose value is not in the entry.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub struct LargeAttribute {
    /// Its name.
    #[n(0)]
    pub name: ByteVec,
    /// Its value.
    #[n(1)]
    pub value: Content,
}

impl Entry {
    /// An entry with nothing but a name and a kind.
    #[must_use]
    pub fn new(name: Vec<u8>, kind: EntryKind) -> Self {
        Self {
            name,
            kind,
            mode: 0,
            uid: 0,
            gid: 0,
            owner: None,
            group: None,
            mtime: 0,
            mtime_nanos: 0,
            content: None,
            target: None,
            device: None,
            xattrs: None,
            links: None,
            flags: None,
            large_xattrs: None,
        }
    }

    /// How complete the entry is.
    #[must_use]
    pub fn flags(&self) -> Flags {
        let bits = self.flags.unwrap_or(0);
        Flags { unsettled: bits & 1 != 0, partial: bits & 2 != 0 }
    }

    /// Says how complete the entry is.
    pub fn set_flags(&mut self, flags: Flags) {
        let bits = u32::from(flags.unsettled) | u32::from(flags.partial) << 1;
        self.flags = (bits != 0).then_some(bits);
    }

    /// The bytes of the entry in a page.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        to_cbor(self)
    }

    /// Bytes of content; 0 for what has none.
    #[must_use]
    pub fn len(&self) -> u64 {
        match self.kind {
            EntryKind::File | EntryKind::BlockDevice => self.content.as_ref().map_or(0, |c| c.len),
            _ => 0,
        }
    }

    /// Whether there is no content.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// All content that the entry refers to: its own, or its listing, and that of its attributes.
    pub fn contents(&self) -> impl Iterator<Item = &Content> {
        self.content.iter().chain(self.attribute_contents())
    }

    /// The content of its large attributes.
    pub fn attribute_contents(&self) -> impl Iterator<Item = &Content> {
        self.large_xattrs.iter().flatten().map(|attribute| &attribute.value)
    }

    fn check(&self) -> Result<(), FormatError> {
        let bad = |why| Err(FormatError::damaged(WHAT, why));
        if self.name.is_empty() || self.name == b"." || self.name == b".." || self.name.iter().any(|b| matches!(b, b'/' | 0)) {
            return bad("it holds a name that no file can have");
        }
        if self.mode > 0o7777 || self.mtime_nanos > 999_999_999 || self.flags.is_some_and(|f| f > 3) {
            return bad("a number in it is out of range");
        }
        let is_as_expected = match self.kind {
            EntryKind::File | EntryKind::Directory => self.content.is_some(),
            // The device itself in a point of kind files, what is on it in one of kind disk.
            EntryKind::BlockDevice => true,
            _ => self.content.is_none(),
        };
        if !is_as_expected {
            return bad("content is missing or not expected");
        }
        let mut names: Vec<&[u8]> = self.xattrs.iter().flatten().map(|(name, _)| &name[..]).collect();
        names.extend(self.large_xattrs.iter().flatten().map(|attribute| &attribute.name[..]));
        names.sort_unstable();
        if names.windows(2).any(|pair| pair[0] == pair[1]) {
            return bad("it has an attribute twice");
        }
        self.contents().try_for_each(Content::check)
    }
}

/// A page of a listing in the making.
#[derive(Debug, Default)]
pub struct EntryPage {
    bytes: Vec<u8>,
}

impl EntryPage {
    /// Adds an entry and, when the page ends with it, returns the page's bytes. It has [`MAX_ENTRY`] bytes at most.
    pub fn push(&mut self, entry: &Entry) -> Option<Vec<u8>> {
        self.push_encoded(&entry.name, &entry.to_bytes())
    }

    /// As [`EntryPage::push`], for an entry of this name that is encoded already.
    pub fn push_encoded(&mut self, name: &[u8], entry: &[u8]) -> Option<Vec<u8>> {
        self.bytes.extend(entry);
        let at_border = blake3::hash(name).as_bytes()[0] == 0;
        (at_border || self.bytes.len() >= MAX_PAGE).then(|| std::mem::take(&mut self.bytes))
    }

    /// The bytes of the last page, unless it is empty.
    #[must_use]
    pub fn finish(self) -> Option<Vec<u8>> {
        (!self.bytes.is_empty()).then_some(self.bytes)
    }

    /// Reads a page: every entry is checked, and that the names ascend.
    ///
    /// # Errors
    /// [`FormatError::Damaged`].
    pub fn read(bytes: &[u8]) -> Result<Vec<Entry>, FormatError> {
        let entries: Vec<Entry> = from_cbor_sequence(WHAT, bytes)?;
        entries.iter().try_for_each(Entry::check)?;
        if entries.is_sorted_by(|a, b| a.name < b.name) {
            Ok(entries)
        } else {
            Err(FormatError::damaged(WHAT, "its names are not in order"))
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::Part;
    use super::*;
    use crate::id::ChunkName;

    fn entry(name: &[u8]) -> Entry {
        Entry { mode: 0o644, mtime: -5, content: Some(Content::empty()), ..Entry::new(name.to_vec(), EntryKind::File) }
    }

    fn page(entries: &[Entry]) -> Vec<u8> {
        entries.iter().flat_map(to_cbor).collect()
    }

    #[test]
    fn entries_round_trip_with_any_name() {
        let mut full = entry(b"m\xfcnster \xff\n.dwg");
        full.owner = Some("anna".into());
        full.xattrs = Some(vec![(b"user.note".to_vec().into(), b"\0\xff".to_vec().into())]);
        full.links = Some((2, 77));
        let value = Content { len: 70_000, depth: 0, parts: vec![Part { len: 70_000, name: Some(ChunkName([9; 32])) }] };
        full.large_xattrs = Some(vec![LargeAttribute { name: b"user.icon".to_vec().into(), value }]);
        full.set_flags(Flags { unsettled: true, partial: false });
        assert_eq!(EntryPage::read(&page(std::slice::from_ref(&full))), Ok(vec![full]));
    }

    #[test]
    fn names_that_would_lead_elsewhere_are_refused() {
        for name in [&b"a/b"[..], b"..", b".", b"", b"nul\0", b"/etc"] {
            assert!(EntryPage::read(&page(&[entry(name)])).is_err(), "{name:?}");
        }
    }

    #[test]
    fn an_attribute_that_is_there_twice_is_refused() {
        let mut twice = entry(b"a");
        twice.xattrs = Some(vec![(b"user.note".to_vec().into(), b"1".to_vec().into())]);
        let again = LargeAttribute { name: b"user.note".to_vec().into(), value: Content::empty() };
        twice.large_xattrs = Some(vec![again]);
        assert!(EntryPage::read(&page(&[twice])).is_err());
    }

    #[test]
    fn names_out_of_order_or_twice_are_refused() {
        assert!(EntryPage::read(&page(&[entry(b"b"), entry(b"a")])).is_err());
        assert!(EntryPage::read(&page(&[entry(b"a"), entry(b"a")])).is_err());
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = EntryPage::read(&bytes);
        }
    }
}
