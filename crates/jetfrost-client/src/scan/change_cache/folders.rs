//! Every folder of the last walk with the one it is in: for a walk that looks only where something changed.

use std::collections::{HashMap, HashSet};
use std::io::{self, Write};

use jetfrost_image::crypto::Random;
use jetfrost_platform::{Metadata, Watched};

use super::super::facts::Stamp;
use super::blocks::{Bytes, Fields};
use crate::backup::Told;

/// A folder, whatever it is called: its volume, and its number there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FolderId {
    /// The volume that it is on.
    pub volume: u64,
    /// Its number on that volume.
    pub file: u64,
}

impl FolderId {
    pub(crate) fn of(found: &Metadata) -> Self {
        Self { volume: found.volume, file: found.file }
    }

    /// Volume and number, as the system's border has them.
    fn parts(self) -> (u64, u64) {
        (self.volume, self.file)
    }

    pub(crate) fn of_stamp(stamp: &Stamp) -> Self {
        Self { volume: stamp.device, file: stamp.inode }
    }
}

/// A folder as the last walk saw it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SeenFolder {
    pub(crate) stamp: Stamp,
    pub(crate) parent: FolderId,
    pub(crate) name: Vec<u8>,
    /// Something in it has to be looked at the next time, whatever the system says: it kept changing, could not be read, or has other names
    /// elsewhere.
    pub(crate) look_again: bool,
}

impl SeenFolder {
    pub(super) fn write(&self, mut to: impl Write) -> io::Result<()> {
        let mut bytes = Bytes::default();
        bytes.stamp(&self.stamp);
        [self.parent.volume, self.parent.file].iter().for_each(|n| bytes.0.extend(n.to_le_bytes()));
        bytes.0.push(u8::from(self.look_again));
        bytes.block(&self.name)?;
        to.write_all(&bytes.0)
    }

    fn read(fields: &mut Fields<'_>) -> io::Result<Self> {
        let (stamp, volume, file) = (fields.stamp()?, fields.number()?, fields.number()?);
        let look_again = fields.bytes()? != [0_u8];
        Ok(Self { stamp, parent: FolderId { volume, file }, look_again, name: fields.block()?.to_vec() })
    }
}

/// A folder that is where the last walk saw it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct InPlace {
    /// It is as it was, and neither there nor below is anything to be looked at.
    pub(crate) may_be_taken_over: bool,
}

/// Where a walk looks, and what it takes over.
#[derive(Debug)]
pub(crate) struct KnownFolders {
    folders: HashMap<FolderId, SeenFolder>,
    /// Where it is told what changes.
    watched: Watched,
    /// Where something may have changed.
    changed: HashSet<FolderId>,
    /// Those, some by chance, and all that leads there.
    look: HashSet<FolderId>,
}

impl KnownFolders {
    /// From what walks wrote: of two of one folder the later counts.
    pub(super) fn read(bytes: &[u8]) -> io::Result<Self> {
        let (mut fields, mut folders) = (Fields(bytes), HashMap::with_capacity(bytes.len() / 128));
        while !fields.0.is_empty() {
            let seen = SeenFolder::read(&mut fields)?;
            folders.insert(FolderId::of_stamp(&seen.stamp), seen);
        }
        Ok(Self { folders, watched: Watched::Folders(HashSet::new()), changed: HashSet::new(), look: HashSet::new() })
    }

    /// Looks where something changed, where that would not be told, where something has to be looked at again, and in `by_chance`
    /// folders beside.
    pub(crate) fn looking_at(mut self, told: Told, by_chance: usize, random: &dyn Random) -> Self {
        self.watched = told.watched;
        let is_wanted = |(id, folder): &(&FolderId, &SeenFolder)| folder.look_again || !self.watched.includes(id.parts());
        let again = self.folders.iter().filter(is_wanted).map(|(id, _)| *id);
        self.changed = again.chain(told.changed).collect();
        let mut wanted: Vec<FolderId> = self.changed.iter().copied().collect();
        wanted.extend(self.some(by_chance, random));
        for id in wanted {
            self.lead_to(id);
        }
        self
    }

    /// Folders drawn by chance, fewer than wanted where some are drawn twice; all of them where there are no more.
    fn some(&self, number: usize, random: &dyn Random) -> Vec<FolderId> {
        let all = self.folders.len();
        if all <= number {
            return self.folders.keys().copied().collect();
        }
        let drawn: HashSet<usize> = (0..number).map(|_| crate::below(all, random)).collect();
        self.folders.keys().enumerate().filter(|(at, _)| drawn.contains(at)).map(|(_, id)| *id).collect()
    }

    fn lead_to(&mut self, id: FolderId) {
        let mut at = id;
        // A folder that is not known is in one that changed.
        while let Some(folder) = self.folders.get(&at) {
            if !self.look.insert(at) {
                return;
            }
            at = folder.parent;
        }
        // The root of all paths has no parent that is known.
        self.look.insert(at);
    }

    /// Where a folder is, if it is where the last walk saw it. Of one that was moved, nothing below is in its place either.
    pub(crate) fn place(&self, parent: FolderId, name: &[u8], found: &Metadata) -> Option<InPlace> {
        let id = FolderId::of(found);
        let seen = self.folders.get(&id).filter(|seen| seen.parent == parent && seen.name == name)?;
        let is_told = self.watched.includes(id.parts()) && !self.look.contains(&id);
        Some(InPlace { may_be_taken_over: is_told && seen.stamp == Stamp::of(found) })
    }

    /// Whether nothing of a folder should differ from what was seen the last time.
    pub(crate) fn should_be_unchanged(&self, id: FolderId) -> bool {
        self.watched.includes(id.parts()) && !self.changed.contains(&id)
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_image::crypto::SeededRandom;
    use jetfrost_platform::Time;
    use proptest::prelude::*;

    use super::*;

    const VOLUME: u64 = 7;

    fn id(file: u64) -> FolderId {
        FolderId { volume: VOLUME, file }
    }

    fn found(file: u64) -> Metadata {
        Metadata {
            kind: None,
            size: 0,
            allocated: 0,
            mode: 0,
            uid: 0,
            gid: 0,
            volume: VOLUME,
            file,
            links: 1,
            device: None,
            modified: Time::default(),
            changed: Time::default(),
        }
    }

    /// Folder n is in folder n / 2 and called n; folder 1 is the root of all paths, of which no walk says in what it is.
    fn known(number: u64, look_again: &HashSet<u64>) -> KnownFolders {
        let mut bytes = Vec::new();
        for n in 2..=number {
            let seen = SeenFolder {
                stamp: Stamp::of(&found(n)),
                parent: id(n / 2),
                name: n.to_string().into_bytes(),
                look_again: look_again.contains(&n),
            };
            seen.write(&mut bytes).expect("written");
        }
        KnownFolders::read(&bytes).expect("read")
    }

    fn told_on<const N: usize>(volumes: [u64; N]) -> Watched {
        Watched::Volumes(HashSet::from(volumes))
    }

    proptest! {
        #[test]
        fn no_folder_is_taken_over_that_changed_or_leads_to_one_that_did(
            changed in proptest::collection::hash_set(2_u64..200, 0..5),
            again in proptest::collection::hash_set(2_u64..200, 0..3),
            by_chance in 0_usize..9,
        ) {
            let (told, watched) = (changed.iter().copied().map(id).collect(), told_on([VOLUME]));
            let told = Told { changed: told, watched };
            let known = known(199, &again).looking_at(told, by_chance, &SeededRandom::new(b"chance"));
            let taken =
            |n: u64| known.place(id(n / 2), n.to_string().as_bytes(), &found(n)).is_some_and(|place| place.may_be_taken_over);
            for n in changed.union(&again) {
                let mut at = *n;
                while at > 1 {
                    prop_assert!(!taken(at), "{at} leads to {n}");
                    at /= 2;
                }
                prop_assert!(!known.should_be_unchanged(id(*n)));
            }
            let looked = (2..200).filter(|n| !taken(*n)).count();
            prop_assert!(looked <= (changed.len() + again.len() + by_chance) * 8, "no more than that and what leads there");
        }
    }

    #[test]
    fn only_what_is_in_its_place_as_it_was_on_a_volume_that_tells_is_taken_over() {
        let looking = |watched| {
            let told = Told { changed: HashSet::new(), watched };
            known(9, &HashSet::new()).looking_at(told, 0, &SeededRandom::new(b""))
        };
        let taken = |known: &KnownFolders, parent, name: &str, found| {
            known.place(id(parent), name.as_bytes(), &found).map(|place| place.may_be_taken_over)
        };
        let known = looking(told_on([VOLUME]));
        assert_eq!(taken(&known, 2, "5", found(5)), Some(true));
        assert_eq!(taken(&known, 3, "5", found(5)), None, "moved");
        assert_eq!(taken(&known, 2, "six", found(5)), None, "renamed");
        assert_eq!(taken(&known, 2, "5", found(77)), None, "another folder");
        let later = Time { seconds: 1, nanos: 0 };
        assert_eq!(taken(&known, 2, "5", Metadata { changed: later, ..found(5) }), Some(false), "another time");
        assert_eq!(taken(&looking(told_on([])), 2, "5", found(5)), Some(false));
        let but_the_fifth = [2, 3, 4, 6, 7, 8, 9].map(|n| (VOLUME, n));
        let some = looking(Watched::Folders(HashSet::from(but_the_fifth)));
        assert_eq!(taken(&some, 2, "5", found(5)), Some(false), "it is not watched");
        assert_eq!(taken(&some, 1, "2", found(2)), Some(false), "it leads there");
        assert_eq!(taken(&some, 1, "3", found(3)), Some(true));
        assert!(KnownFolders::read(&[1; 30]).is_err());
    }
}
