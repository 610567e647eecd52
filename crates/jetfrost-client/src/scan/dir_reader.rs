//! Looking at every chosen name, in the order of the walk: what it is, and whether it is left out.
//!
//! A folder is seen before what it holds, which ends with [`DirEntry::Leave`]. [`look_ahead`] does the looking in a thread of its
//! own: what the kernel does for a look at a name takes as long as what the walk does with it.

use std::io::{self, Read};
use std::ops::ControlFlow;
use std::sync::Arc;
use std::thread::Scope;

use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::format::EntryKind;
use jetfrost_platform::{Directory, FileKind, Metadata, OpenDirectory};

use super::change_cache::{FolderId, KnownFolders};
use super::stand_in::StandIns;
use crate::entries::entry_kind;
use crate::exclusion::{CACHE_TAG, CACHE_TAG_SIGNATURE};
use crate::selection::{Patterns, SelectionTree};

/// Folders within folders beyond this are not followed: each level needs memory and a file handle.
pub(super) const DEEPEST: usize = 500;
/// Sights that are handed on at once.
const BATCH: usize = 256;
/// Folders among them at most: each holds a file handle open.
const FOLDERS: usize = 8;
/// Batches that wait to be taken.
const WAITING: usize = 8;

/// How the content of what was chosen is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reading {
    /// As files, cut by their content.
    Files,
    /// As disks, in fixed extents.
    Disks,
}

/// What stands at a name.
pub(crate) enum DirEntry {
    /// Something that is no folder.
    Leaf(Seen, EntryKind),
    /// A folder. If it is open, the sights of what it holds follow, and then [`DirEntry::Leave`].
    Folder(Seen, Inside),
    /// The end of a folder.
    Leave,
    /// A pattern leaves it out.
    LeftOut,
    /// The system does not say what it is.
    Unseen(Vec<u8>, io::Error),
    /// It is nothing that can be kept, or not what was chosen, for this reason.
    Unfit(Vec<u8>, &'static str),
}

/// A name, and what the system says of it.
pub(crate) struct Seen {
    pub(crate) name: Vec<u8>,
    pub(crate) metadata: Metadata,
}

/// Whether a folder can be gone into.
pub(crate) enum Inside {
    Open(Arc<Directory>),
    /// It is the root of another volume, and the walk stays on one.
    OtherVolume,
    /// It is within more than [`DEEPEST`] others.
    TooDeep,
    /// It could not be opened or listed.
    Closed(io::Error),
    /// It is as the last walk saw it, and what is in it is not looked at.
    TakenOver,
}

/// What is looked at, and how.
#[derive(Clone, Copy)]
pub(crate) struct View<'v> {
    pub(crate) tree: &'v SelectionTree,
    pub(crate) patterns: &'v Patterns,
    /// Selection folders whose volume is not mounted, as paths: what is at their place is something else.
    pub(crate) unmounted: &'v [Vec<u8>],
    /// Not seen at all: this machine's own settings and cache, which change during the walk.
    pub(crate) own: &'v [u8],
    pub(crate) reading: Reading,
    /// What is walked in place of what.
    pub(crate) stand_ins: StandIns<'v>,
    /// Where nothing changed since the last walk, if that is known.
    pub(crate) known: Option<&'v KnownFolders>,
    /// Told of every folder before it is listed.
    pub(crate) about_to_list: Option<&'v (dyn Fn(&Directory) + Sync)>,
    /// Whether it is known of every program which files it has open for writing.
    pub(crate) sees_all_programs: bool,
}

impl View<'_> {
    /// Shows every entry_seen under the root, until it is told to break off.
    ///
    /// # Errors
    /// When the root cannot be opened or listed.
    pub(crate) fn look(&self, show: &mut dyn FnMut(DirEntry) -> ControlFlow<()>) -> io::Result<()> {
        self.look_from(&*self.root()?, show)
    }

    /// Where a walk begins.
    fn root(&self) -> io::Result<Arc<Directory>> {
        self.stand_ins.at(b"").unwrap_or_else(Directory::root).map(Arc::new)
    }

    fn look_from(&self, root: &Directory, show: &mut dyn FnMut(DirEntry) -> ControlFlow<()>) -> io::Result<()> {
        let within = Within { chosen: Some(self.tree), whole: self.tree.whole };
        // Also when everything was chosen the walk stays on one volume: /proc and the like are others.
        let device =
            if self.tree.whole { root.metadata().ok().map(|root| self.stand_ins.as_seen_there(root).volume) } else { None };
        let names = self.names_of(root, within)?;
        let id = root.metadata().map(|root| FolderId::of(&self.stand_ins.as_seen_there(root)))?;
        let _ = Looking { view: self, path: Vec::new(), depth: 0, show }.folder(root, Some(id), names, within, device);
        Ok(())
    }

    /// The names to look at in a folder, ascending: those on the way to what was chosen, or all of them. One that was chosen is
    /// looked at also when it is not listed: that it is not there is worth saying.
    fn names_of(&self, folder: &Directory, within: Within<'_>) -> io::Result<Vec<Vec<u8>>> {
        self.about_to_list.iter().for_each(|tell| tell(folder));
        let mut found = if within.whole { folder.names()? } else { Vec::new() };
        if let Some(chosen) = within.chosen.filter(|chosen| !chosen.children.is_empty()) {
            found.extend(chosen.children.keys().cloned());
            found.sort_unstable();
            found.dedup();
        }
        Ok(found)
    }
}

/// Looks ahead of the walk that takes these sights, in a thread of `scope`. The root is opened and returned.
///
/// # Errors
/// When the root cannot be opened.
pub(super) fn look_ahead<'s>(scope: &'s Scope<'s, '_>, view: View<'s>) -> io::Result<(Arc<Directory>, Sights)> {
    let root = view.root()?;
    let (out, batches) = bounded(WAITING);
    let from = Arc::clone(&root);
    scope.spawn(move || {
        let mut ahead = Ahead { out, batch: Vec::with_capacity(BATCH), folders: 0 };
        if let Err(error) = view.look_from(&from, &mut |entry_seen| ahead.show(entry_seen)) {
            let _ = ahead.show(DirEntry::Unseen(Vec::new(), error));
            let _ = ahead.show(DirEntry::Leave);
        }
        let _ = ahead.hand_on();
    });
    Ok((root, Sights { batches, batch: Vec::new().into_iter() }))
}

/// Sights, as they come from a thread that looks ahead.
pub(super) struct Sights {
    batches: Receiver<Vec<DirEntry>>,
    batch: std::vec::IntoIter<DirEntry>,
}

impl Iterator for Sights {
    type Item = DirEntry;

    fn next(&mut self) -> Option<DirEntry> {
        loop {
            if let Some(entry_seen) = self.batch.next() {
                return Some(entry_seen);
            }
            self.batch = self.batches.recv().ok()?.into_iter();
        }
    }
}

/// Gathers sights until there are enough to hand on.
struct Ahead {
    out: Sender<Vec<DirEntry>>,
    batch: Vec<DirEntry>,
    folders: usize,
}

impl Ahead {
    fn show(&mut self, entry_seen: DirEntry) -> ControlFlow<()> {
        self.folders += usize::from(matches!(entry_seen, DirEntry::Folder(_, Inside::Open(_))));
        self.batch.push(entry_seen);
        if self.batch.len() < BATCH && self.folders < FOLDERS { ControlFlow::Continue(()) } else { self.hand_on() }
    }

    fn hand_on(&mut self) -> ControlFlow<()> {
        self.folders = 0;
        let batch = std::mem::replace(&mut self.batch, Vec::with_capacity(BATCH));
        // Nobody takes them when the walk was broken off.
        self.out.send(batch).map_or(ControlFlow::Break(()), ControlFlow::Continue)
    }
}

/// What is taken of a folder.
#[derive(Clone, Copy)]
struct Within<'s> {
    /// What a person chose in it or further below.
    chosen: Option<&'s SelectionTree>,
    /// Whether everything is taken, or only what leads to what was chosen.
    whole: bool,
}

impl<'s> Within<'s> {
    fn child(&self, name: &[u8]) -> Option<&'s SelectionTree> {
        self.chosen.and_then(|chosen| chosen.children.get(name))
    }
}

/// What surrounds a name: the folder it is in, what is taken of the name, and on which volume.
struct Around<'a> {
    folder: &'a Directory,
    within: Within<'a>,
    /// Whether a person named it.
    is_chosen: bool,
    device: Option<u64>,
    /// The folder, if it is where the last walk saw it.
    id: Option<FolderId>,
}

struct Looking<'l> {
    view: &'l View<'l>,
    path: Vec<u8>,
    depth: usize,
    show: &'l mut dyn FnMut(DirEntry) -> ControlFlow<()>,
}

impl Looking<'_> {
    fn folder(
        &mut self,
        folder: &Directory,
        id: Option<FolderId>,
        names: Vec<Vec<u8>>,
        within: Within<'_>,
        device: Option<u64>,
    ) -> ControlFlow<()> {
        for name in names {
            let chosen = within.child(&name);
            let is_chosen = chosen.is_some_and(|chosen| chosen.whole);
            let around = Around { folder, within: Within { chosen, whole: within.whole || is_chosen }, is_chosen, device, id };
            let length = self.path.len();
            self.path.push(b'/');
            self.path.extend(&name);
            self.name(around, name)?;
            self.path.truncate(length);
        }
        (self.show)(DirEntry::Leave)
    }

    /// What a person named is not left out by a pattern. Of what is left out, only that is taken.
    fn name(&mut self, mut around: Around<'_>, name: Vec<u8>) -> ControlFlow<()> {
        if self.path == self.view.own {
            return ControlFlow::Continue(());
        }
        if around.within.whole && !around.is_chosen && self.view.patterns.leave_out(&self.path, &name) {
            if around.within.chosen.is_none() {
                return (self.show)(DirEntry::LeftOut);
            }
            around.within.whole = false;
        }
        if around.is_chosen && self.view.unmounted.contains(&self.path) {
            return (self.show)(DirEntry::Unfit(name, "the volume that it lies on is not mounted"));
        }
        let is_disk = self.view.reading == Reading::Disks && around.within.whole;
        let stand_in = match self.view.stand_ins.at(&self.path).transpose() {
            Ok(stand_in) => stand_in,
            Err(error) => return (self.show)(DirEntry::Unseen(name, error)),
        };
        let seen = match &stand_in {
            Some(directory) => directory.metadata(),
            None if is_disk => around.folder.metadata_behind(&name),
            None => around.folder.metadata_of(&name),
        };
        let metadata = match seen {
            Ok(metadata) => self.view.stand_ins.as_seen_there(metadata),
            Err(error) => return (self.show)(DirEntry::Unseen(name, error)),
        };
        match metadata.kind.map(entry_kind) {
            Some(EntryKind::Directory) if is_disk => {
                (self.show)(DirEntry::Unfit(name, "it was included as a disk, and is a folder"))
            }
            Some(EntryKind::Directory) => self.go_into(&around, Seen { name, metadata }, stand_in),
            Some(kind) => self.leaf(&around, Seen { name, metadata }, kind),
            None => (self.show)(DirEntry::Unfit(name, "it is of a kind that is not known")),
        }
    }

    /// What is no folder. Where a folder was chosen, or something behind it, that is not what was asked for.
    fn leaf(&mut self, around: &Around<'_>, seen: Seen, kind: EntryKind) -> ControlFlow<()> {
        let why = around.within.chosen.and_then(|chosen| match kind {
            EntryKind::Symlink => {
                Some("it was included, or leads to what was included, and is a symbolic link: include what it points to")
            }
            _ if !chosen.children.is_empty() => Some("what was included lies below it, and it is not a folder"),
            _ => None,
        });
        let name = seen.name.clone();
        (self.show)(DirEntry::Leaf(seen, kind))?;
        why.map_or(ControlFlow::Continue(()), |why| (self.show)(DirEntry::Unfit(name, why)))
    }

    fn go_into(&mut self, around: &Around<'_>, seen: Seen, stand_in: Option<Directory>) -> ControlFlow<()> {
        // On the way to the chosen folders volumes do not matter; from there on the walk stays on one.
        let mut within = around.within;
        let stays = around.is_chosen || !within.whole || around.device.is_none_or(|device| device == seen.metadata.volume);
        if !stays && within.chosen.is_none() {
            return (self.show)(DirEntry::Folder(seen, Inside::OtherVolume));
        }
        // Of another volume only what was chosen on it is taken.
        within.whole &= stays;
        // What only leads to included folders may lie on other volumes.
        let place = self.view.known.zip(around.id).and_then(|(known, parent)| known.place(parent, &seen.name, &seen.metadata));
        if within.whole && place.is_some_and(|place| place.may_be_taken_over) {
            return (self.show)(DirEntry::Folder(seen, Inside::TakenOver));
        }
        if self.depth == DEEPEST {
            return (self.show)(DirEntry::Folder(seen, Inside::TooDeep));
        }
        let device = within.whole.then_some(seen.metadata.volume);
        let id = place.map(|_| FolderId::of(&seen.metadata));
        let opened = stand_in.map_or_else(|| around.folder.open_directory(&seen.name), Ok).map(Arc::new);
        match opened.and_then(|folder| self.view.names_of(&folder, within).map(|names| (folder, names))) {
            Ok((folder, mut names)) => {
                (self.show)(DirEntry::Folder(seen, Inside::Open(Arc::clone(&folder))))?;
                if within.whole && !around.is_chosen && self.view.patterns.heeds_cache_tags() && is_tagged_cache(&folder) {
                    // The tag stays, so that what is restored is a cache as well; and what a person chose in it.
                    names.retain(|name| name == CACHE_TAG || within.child(name).is_some());
                    (self.show)(DirEntry::LeftOut)?;
                }
                self.depth += 1;
                let looked = self.folder(&folder, id, names, within, device);
                self.depth -= 1;
                looked
            }
            Err(error) => (self.show)(DirEntry::Folder(seen, Inside::Closed(error))),
        }
    }
}

/// Whether a program marked a directory as one whose content it can make again.
pub(crate) fn is_tagged_cache(folder: &Directory) -> bool {
    let mut begins = [0; CACHE_TAG_SIGNATURE.len()];
    let read = folder.metadata_of(CACHE_TAG).and_then(|tag| match tag.kind {
        Some(FileKind::File) => folder.open_file(CACHE_TAG)?.read_exact(&mut begins),
        _ => Err(io::ErrorKind::NotFound.into()),
    });
    read.is_ok() && begins == *CACHE_TAG_SIGNATURE
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;

    use jetfrost_platform::{make_link, path_bytes, reason};

    use super::*;
    use crate::selection::Folder;

    /// Sights below a folder as text, in their order.
    fn below(folder: &Path, own: &Path, patterns: &[&str]) -> Vec<String> {
        let tree = SelectionTree::of(&[Folder(folder.into())]);
        let patterns = Patterns::compile(&patterns.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>()).expect("patterns");
        let view = View {
            tree: &tree,
            patterns: &patterns,
            unmounted: &[],
            own: path_bytes(own),
            reading: Reading::Files,
            stand_ins: StandIns::NONE,
            known: None,
            about_to_list: None,
            sees_all_programs: true,
        };
        let on_the_way = folder.components().count() - 1;
        let seen: Vec<String> =
            std::thread::scope(|scope| look_ahead(scope, view).expect("the root opens").1.map(text).collect());
        let mut directly = Vec::new();
        view.look(&mut |entry_seen| {
            directly.push(text(entry_seen));
            ControlFlow::Continue(())
        })
        .expect("the root opens");
        assert_eq!(seen, directly);
        seen[on_the_way..seen.len() - on_the_way].to_vec()
    }

    fn text(entry_seen: DirEntry) -> String {
        let text = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
        match entry_seen {
            DirEntry::Leaf(seen, kind) => format!("{} {kind:?}", text(&seen.name)),
            DirEntry::Folder(seen, Inside::Open(_)) => format!("{}/", text(&seen.name)),
            DirEntry::Folder(seen, Inside::OtherVolume) => format!("{} of another volume", text(&seen.name)),
            DirEntry::Folder(seen, Inside::TooDeep) => format!("{} too deep", text(&seen.name)),
            DirEntry::Folder(seen, Inside::Closed(error)) => format!("{} closed: {}", text(&seen.name), reason(&error)),
            DirEntry::Folder(seen, Inside::TakenOver) => format!("{} taken over", text(&seen.name)),
            DirEntry::Leave => "leave".into(),
            DirEntry::LeftOut => "left out".into(),
            DirEntry::Unseen(name, error) => format!("{} unseen: {}", text(&name), reason(&error)),
            DirEntry::Unfit(name, why) => format!("{} unfit: {why}", text(&name)),
        }
    }

    #[test]
    fn a_folder_comes_before_what_it_holds_and_names_in_the_order_of_their_bytes() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir_all(root.path().join("b/inner")).expect("made");
        fs::create_dir(root.path().join("own")).expect("made");
        for name in ["a", "b/x.tmp", "b/y", "c"] {
            fs::write(root.path().join(name), "x").expect("written");
        }
        make_link(Path::new("a"), &root.path().join("link")).expect("made");
        assert_eq!(
            below(root.path(), &root.path().join("own"), &["*.tmp"]),
            ["a File", "b/", "inner/", "leave", "left out", "y File", "leave", "c File", "link Symlink", "leave"]
        );
    }

    #[test]
    fn more_names_and_folders_than_a_batch_takes_all_come() {
        let root = tempfile::tempdir().expect("a directory");
        for folder in 0..3 * FOLDERS {
            fs::create_dir(root.path().join(format!("f{folder:02}"))).expect("made");
        }
        for file in 0..2 * BATCH + 1 {
            fs::write(root.path().join(format!("f00/{file:04}")), "").expect("written");
        }
        let seen = below(root.path(), Path::new("/nowhere"), &[]);
        assert_eq!(seen.len(), 2 * 3 * FOLDERS + 2 * BATCH + 1 + 1);
    }

    #[test]
    fn folders_within_folders_are_followed_as_far_as_is_said_and_no_further() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir_all(root.path().join("d/".repeat(DEEPEST + 10))).expect("made");
        let above = root.path().components().count() - 1;
        let seen = below(root.path(), Path::new("/nowhere"), &[]);
        assert_eq!(seen.iter().filter(|entry_seen| *entry_seen == "d/").count(), DEEPEST - above);
        assert_eq!(seen[DEEPEST - above], "d too deep");
    }

    /// What is kept of a tree when these paths below it were chosen, and these are skipped.
    fn kept(root: &Path, chosen: &[&str], skipped: &[&str], unmounted: &[Vec<u8>]) -> Vec<String> {
        let folders: Vec<Folder> = chosen.iter().map(|path| Folder(root.join(path))).collect();
        let tree = SelectionTree::of(&folders);
        let patterns = Patterns::compile(&skipped.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>()).expect("patterns");
        let view = View {
            tree: &tree,
            patterns: &patterns,
            unmounted,
            own: b"",
            reading: Reading::Files,
            stand_ins: StandIns::NONE,
            known: None,
            about_to_list: None,
            sees_all_programs: true,
        };
        let mut seen = Vec::new();
        view.look(&mut |entry_seen| {
            seen.push(text(entry_seen));
            ControlFlow::Continue(())
        })
        .expect("the root opens");
        let on_the_way = root.components().count() - 1;
        seen[on_the_way..seen.len() - on_the_way - 1].to_vec()
    }

    /// Whoever included `/` had points with nothing in them, and an exception.
    #[test]
    fn a_whole_machine_is_listed_from_its_root() {
        let names =
            fs::read_dir("/").expect("listed").map(|entry| entry.expect("an entry").file_name().into_string().expect("text"));
        let mut skipped: Vec<String> = names.filter(|name| name != "etc").map(|name| format!("/{name}")).collect();
        skipped.push("/etc/*".into());
        let skipped: Vec<&str> = skipped.iter().map(String::as_str).collect();
        let mut seen = kept(Path::new("/"), &[""], &skipped, &[]);
        seen.retain(|entry_seen| entry_seen != "left out");
        assert_eq!(seen, ["etc/", "leave"]);
    }

    #[test]
    fn a_folder_that_was_chosen_below_a_skipped_name_is_kept_though_its_parent_is_chosen_as_well() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir_all(root.path().join("a/node_modules/mine")).expect("made");
        for name in ["a/node_modules/junk", "a/node_modules/mine/work", "a/plan"] {
            fs::write(root.path().join(name), "x").expect("written");
        }
        assert_eq!(
            kept(root.path(), &["a", "a/node_modules/mine"], &["node_modules"], &[]),
            ["a/", "node_modules/", "mine/", "work File", "leave", "leave", "plan File", "leave"]
        );
    }

    #[test]
    fn a_chosen_folder_that_is_a_link_or_behind_one_or_gone_is_named() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir_all(root.path().join("real/inner")).expect("made");
        make_link(Path::new("real"), &root.path().join("link")).expect("made");
        for chosen in ["link", "link/inner"] {
            let seen = kept(root.path(), &[chosen], &[], &[]);
            assert!(seen[1].starts_with("link unfit: ") && seen.len() == 2, "{seen:?}");
        }
        assert_eq!(kept(root.path(), &["gone"], &[], &[]), ["gone unseen: No such file or directory"]);
        assert_eq!(kept(root.path(), &["", "gone"], &[], &[])[0], "gone unseen: No such file or directory");
    }

    #[test]
    fn what_is_at_the_place_of_an_unmounted_volume_is_not_taken_for_it() {
        let root = tempfile::tempdir().expect("a directory");
        fs::create_dir(root.path().join("volume")).expect("made");
        let unmounted = [path_bytes(&root.path().join("volume")).to_vec()];
        let seen = kept(root.path(), &["volume"], &[], &unmounted);
        assert_eq!(seen, ["volume unfit: the volume that it lies on is not mounted"]);
    }

    #[test]
    fn a_walk_that_is_broken_off_ends_the_looking() {
        let root = tempfile::tempdir().expect("a directory");
        for file in 0..BATCH * (WAITING + 2) {
            fs::write(root.path().join(format!("{file:05}")), "").expect("written");
        }
        let tree = SelectionTree::of(&[Folder(root.path().into())]);
        let patterns = Patterns::compile(&[]).expect("patterns");
        let view = View {
            tree: &tree,
            patterns: &patterns,
            unmounted: &[],
            own: b"",
            reading: Reading::Files,
            stand_ins: StandIns::NONE,
            known: None,
            about_to_list: None,
            sees_all_programs: true,
        };
        // The scope ends only when the thread has.
        std::thread::scope(|scope| assert!(look_ahead(scope, view).expect("the root opens").1.next().is_some()));
    }
}
