//! The bytes of a catalogue: names beside their folders, what is known of each, and the folders. Names lie apart from the rest, since a
//! search goes through all of them and needs the rest of few.

use jetfrost_image::format::EntryKind;

/// The folder that is in none.
pub(super) const ROOT: u32 = 0;

/// What a name was from a point on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Fact {
    /// The number of the first point in which it was so.
    pub(super) point: u64,
    /// What it was; none once it was gone.
    pub(super) kind: Option<EntryKind>,
    /// Bytes of a file.
    pub(super) len: u64,
    /// When its content changed last, in seconds since 1970.
    pub(super) modified: i64,
    /// Tells one state from another.
    pub(super) version: u64,
}

/// Names, each in a folder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Names {
    folders: Vec<u32>,
    /// Behind the last byte of each name and its end.
    ends: Vec<u32>,
    /// The names, each with [`END`] behind it.
    text: Vec<u8>,
}

/// What no name has.
const END: u8 = b'/';

impl Names {
    pub(super) fn push(&mut self, folder: u32, name: &[u8]) {
        self.folders.push(folder);
        self.text.extend(name);
        self.text.push(END);
        self.ends.push(u32::try_from(self.text.len()).expect("a block ends long before"));
    }

    pub(super) fn len(&self) -> usize {
        self.folders.len()
    }

    /// How many bytes they come to.
    pub(super) fn bytes(&self) -> usize {
        self.text.len() + 4 * self.folders.len()
    }

    pub(super) fn folders(&self) -> &[u32] {
        &self.folders
    }

    /// All of them, each with a `/` behind it.
    pub(super) fn text(&self) -> &[u8] {
        &self.text
    }

    pub(super) fn name(&self, at: usize) -> &[u8] {
        let begin = at.checked_sub(1).map_or(0, |before| self.ends[before] as usize);
        &self.text[begin..self.ends[at] as usize - 1]
    }

    /// Which name holds this byte of the text.
    pub(super) fn at_byte(&self, byte: usize) -> usize {
        self.ends.partition_point(|end| *end as usize <= byte)
    }

    pub(super) fn to_bytes(&self) -> Vec<u8> {
        let number = u32::try_from(self.len()).expect("a block ends long before");
        let mut bytes = number.to_le_bytes().to_vec();
        self.folders.iter().for_each(|folder| bytes.extend(folder.to_le_bytes()));
        bytes.extend(&self.text);
        bytes
    }

    /// None when it is not what was written.
    pub(super) fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (number, rest) = bytes.split_first_chunk()?;
        let number = u32::from_le_bytes(*number) as usize;
        let (folders, text) = rest.split_at_checked(number.checked_mul(4)?)?;
        let folders = folders.as_chunks().0.iter().map(|folder| u32::from_le_bytes(*folder)).collect();
        let ends = text.iter().enumerate().filter(|(_, byte)| **byte == END).map(|(at, _)| u32::try_from(at + 1));
        let ends = ends.collect::<Result<Vec<_>, _>>().ok()?;
        let is_whole = ends.len() == number && ends.last().map_or(0, |end| *end as usize) == text.len();
        is_whole.then(|| Self { folders, ends, text: text.to_vec() })
    }
}

/// The bytes of one fact.
const FACT: usize = 33;

pub(super) fn facts_to_bytes(facts: &[Fact]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(facts.len() * FACT);
    for fact in facts {
        bytes.push(kind_number(fact.kind));
        bytes.extend(fact.point.to_le_bytes());
        bytes.extend(fact.len.to_le_bytes());
        bytes.extend(fact.modified.to_le_bytes());
        bytes.extend(fact.version.to_le_bytes());
    }
    bytes
}

/// None when it is not what was written.
pub(super) fn facts_from_bytes(bytes: &[u8]) -> Option<Vec<Fact>> {
    let (facts, rest) = bytes.as_chunks::<FACT>();
    let number = |fact: &[u8; FACT], at: usize| fact[at..at + 8].try_into().map(u64::from_le_bytes).ok();
    let read = |fact: &[u8; FACT]| {
        Some(Fact {
            kind: kind_of(fact[0])?,
            point: number(fact, 1)?,
            len: number(fact, 9)?,
            modified: number(fact, 17)?.cast_signed(),
            version: number(fact, 25)?,
        })
    };
    if rest.is_empty() { facts.iter().map(read).collect() } else { None }
}

fn kind_number(kind: Option<EntryKind>) -> u8 {
    match kind {
        None => 0,
        Some(EntryKind::File) => 1,
        Some(EntryKind::Directory) => 2,
        Some(EntryKind::Symlink) => 3,
        Some(EntryKind::Fifo) => 4,
        Some(EntryKind::CharDevice) => 5,
        Some(EntryKind::BlockDevice) => 6,
        Some(EntryKind::Socket) => 7,
    }
}

/// The outer option is about the number.
#[expect(clippy::option_option, reason = "a name that is gone has no kind")]
fn kind_of(number: u8) -> Option<Option<EntryKind>> {
    Some(match number {
        0 => None,
        1 => Some(EntryKind::File),
        2 => Some(EntryKind::Directory),
        3 => Some(EntryKind::Symlink),
        4 => Some(EntryKind::Fifo),
        5 => Some(EntryKind::CharDevice),
        6 => Some(EntryKind::BlockDevice),
        7 => Some(EntryKind::Socket),
        _ => return None,
    })
}

/// All folders that there ever were, by number, each with the one that it is in. The root is the first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Folders(Names);

impl Default for Folders {
    fn default() -> Self {
        let mut names = Names::default();
        names.push(ROOT, b"");
        Self(names)
    }
}

impl Folders {
    /// The numbers end here.
    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    pub(super) fn push(&mut self, parent: u32, name: &[u8]) -> u32 {
        self.0.push(parent, name);
        u32::try_from(self.0.len() - 1).expect("their names would not fit")
    }

    /// Each with its number: the folder that it is in, and its name.
    pub(super) fn all(&self) -> impl Iterator<Item = (u32, &[u8])> {
        self.0.folders.iter().copied().zip((0..self.len()).map(|at| self.0.name(at)))
    }

    /// The path of a folder, without an end of its own: empty for the root.
    pub(super) fn path(&self, folder: u32) -> Vec<u8> {
        let mut parts = Vec::new();
        let mut at = folder;
        while at != ROOT {
            parts.push(self.0.name(at as usize));
            at = self.0.folders[at as usize];
        }
        parts.into_iter().rev().flat_map(|part| [b"/", part].concat()).collect()
    }

    /// Those with these numbers.
    pub(super) fn between(&self, first: usize, end: usize) -> Names {
        let mut names = Names::default();
        (first..end).for_each(|at| names.push(self.0.folders[at], self.0.name(at)));
        names
    }

    /// Adds what was written; none if one is in a folder that comes after it, or has no name.
    pub(super) fn add(&mut self, more: &Names) -> Option<()> {
        for at in 0..more.len() {
            let (parent, name) = (more.folders[at], more.name(at));
            (!name.is_empty() && (parent as usize) < self.len()).then(|| self.push(parent, name))?;
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::collection::vec;
    use proptest::prelude::*;

    use super::*;

    fn facts() -> impl Strategy<Value = Fact> {
        (any::<u64>(), 0_u8..8, any::<u64>(), any::<i64>(), any::<u64>()).prop_map(|(point, kind, len, modified, version)| Fact {
            point,
            kind: kind_of(kind).expect("one of them"),
            len,
            modified,
            version,
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(
            names in vec((any::<u32>(), vec(any::<u8>().prop_filter("no name has it", |byte| *byte != END), 0..20)), 0..50),
            facts in vec(facts(), 0..50),
        ) {
            let mut written = Names::default();
            names.iter().for_each(|(folder, name)| written.push(*folder, name));
            let read = Names::from_bytes(&written.to_bytes()).expect("whole");
            prop_assert_eq!(&read, &written);
            for (at, (_, name)) in names.iter().enumerate() {
                prop_assert_eq!(read.name(at), &name[..]);
            }
            for (byte, _) in read.text().iter().enumerate() {
                let at = read.at_byte(byte);
                prop_assert!(read.ends[at] as usize > byte && (at == 0 || read.ends[at - 1] as usize <= byte));
            }
            prop_assert_eq!(facts_from_bytes(&facts_to_bytes(&facts)), Some(facts));
        }

        /// Whatever a disk makes of it.
        #[test]
        fn any_bytes_are_read_or_refused(bytes in vec(any::<u8>(), 0..200)) {
            if let Some(names) = Names::from_bytes(&bytes) {
                prop_assert_eq!(names.to_bytes(), bytes.clone());
                let mut folders = Folders::default();
                if folders.add(&names).is_some() {
                    (0..folders.len()).for_each(|at| drop(folders.path(u32::try_from(at).expect("few"))));
                }
            }
            let _ = facts_from_bytes(&bytes);
        }
    }

    #[test]
    fn a_folder_has_the_path_of_those_that_it_is_in() {
        let mut folders = Folders::default();
        let home = folders.push(ROOT, b"home");
        let aud = folders.push(home, b"aud");
        assert_eq!((folders.path(aud), folders.path(ROOT)), (b"/home/aud".to_vec(), Vec::new()));
        let mut again = Folders::default();
        again.add(&folders.between(1, folders.len())).expect("sound");
        assert_eq!(again, folders);
        let mut names = Names::default();
        names.push(7, b"in one that is not there");
        assert!(again.add(&names).is_none());
    }
}
