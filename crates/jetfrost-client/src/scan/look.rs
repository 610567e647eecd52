//! Looking at every chosen name, in the order of the walk: what it is, and whether it is left out.
//!
//! A folder is seen before what it holds, which ends with [`Sight::Leave`]. [`look_ahead`] does the looking in a thread of its
//! own: what the kernel does for a look at a name takes as long as what the walk does with it.

use std::ops::ControlFlow;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::thread::Scope;

use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::format::EntryKind;
use nix::errno::Errno;
use nix::sys::stat::FileStat;

use super::directory::{device_of, look, look_through, names, open_directory, open_root};
use super::facts::kind;
use crate::chosen::{Patterns, Selection};

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
pub(super) enum Sight {
    /// Something that is no folder.
    Leaf(Seen, EntryKind),
    /// A folder. If it is open, the sights of what it holds follow, and then [`Sight::Leave`].
    Folder(Seen, Inside),
    /// The end of a folder.
    Leave,
    /// A pattern leaves it out.
    LeftOut,
    /// The system does not say what it is.
    Unseen(Vec<u8>, Errno),
    /// It is nothing that can be kept, for this reason.
    Unfit(Vec<u8>, &'static str),
}

/// A name, and what the system says of it.
pub(super) struct Seen {
    pub(super) name: Vec<u8>,
    pub(super) stat: FileStat,
}

/// Whether a folder can be gone into.
pub(super) enum Inside {
    Open(Arc<OwnedFd>),
    /// It is the root of another volume, and the walk stays on one.
    OtherVolume,
    /// It is within more than [`DEEPEST`] others.
    TooDeep,
    /// It could not be opened or listed.
    Closed(Errno),
}

/// What is looked at, and how.
#[derive(Clone, Copy)]
pub(crate) struct View<'v> {
    pub(crate) selection: &'v Selection,
    pub(crate) patterns: &'v Patterns,
    /// Not seen at all: this machine's own settings and memory, which change during the walk.
    pub(crate) own: &'v [u8],
    pub(crate) reading: Reading,
}

impl View<'_> {
    /// Shows every sight under the root, until it is told to break off.
    ///
    /// # Errors
    /// When the root cannot be opened or listed.
    pub(super) fn look(&self, show: &mut dyn FnMut(Sight) -> ControlFlow<()>) -> Result<(), Errno> {
        self.look_from(&open_root()?, show)
    }

    fn look_from(&self, root: &OwnedFd, show: &mut dyn FnMut(Sight) -> ControlFlow<()>) -> Result<(), Errno> {
        let chosen = (!self.selection.whole).then_some(self.selection);
        // Also when everything was chosen the walk stays on one volume: /proc and the like are others.
        let device = if self.selection.whole { device_of(root) } else { None };
        let names = names_of(root, chosen)?;
        let _ = Looking { view: self, path: Vec::new(), depth: 0, show }.folder(root, names, chosen, device);
        Ok(())
    }
}

/// Looks ahead of the walk that takes these sights, in a thread of `scope`. The root is opened and returned.
///
/// # Errors
/// When the root cannot be opened.
pub(super) fn look_ahead<'s>(scope: &'s Scope<'s, '_>, view: View<'s>) -> Result<(Arc<OwnedFd>, Sights), Errno> {
    let root = Arc::new(open_root()?);
    let (out, batches) = bounded(WAITING);
    let from = Arc::clone(&root);
    scope.spawn(move || {
        let mut ahead = Ahead { out, batch: Vec::with_capacity(BATCH), folders: 0 };
        if let Err(error) = view.look_from(&from, &mut |sight| ahead.show(sight)) {
            let _ = ahead.show(Sight::Unseen(Vec::new(), error));
            let _ = ahead.show(Sight::Leave);
        }
        let _ = ahead.hand_on();
    });
    Ok((root, Sights { batches, batch: Vec::new().into_iter() }))
}

/// Sights, as they come from a thread that looks ahead.
pub(super) struct Sights {
    batches: Receiver<Vec<Sight>>,
    batch: std::vec::IntoIter<Sight>,
}

impl Iterator for Sights {
    type Item = Sight;

    fn next(&mut self) -> Option<Sight> {
        loop {
            if let Some(sight) = self.batch.next() {
                return Some(sight);
            }
            self.batch = self.batches.recv().ok()?.into_iter();
        }
    }
}

/// Gathers sights until there are enough to hand on.
struct Ahead {
    out: Sender<Vec<Sight>>,
    batch: Vec<Sight>,
    folders: usize,
}

impl Ahead {
    fn show(&mut self, sight: Sight) -> ControlFlow<()> {
        self.folders += usize::from(matches!(sight, Sight::Folder(_, Inside::Open(_))));
        self.batch.push(sight);
        if self.batch.len() < BATCH && self.folders < FOLDERS { ControlFlow::Continue(()) } else { self.hand_on() }
    }

    fn hand_on(&mut self) -> ControlFlow<()> {
        self.folders = 0;
        let batch = std::mem::replace(&mut self.batch, Vec::with_capacity(BATCH));
        // Nobody takes them when the walk was broken off.
        self.out.send(batch).map_or(ControlFlow::Break(()), ControlFlow::Continue)
    }
}

/// The names to look at in a folder, ascending: those on the way to what was chosen, or all of them.
fn names_of(folder: &OwnedFd, selection: Option<&Selection>) -> Result<Vec<Vec<u8>>, Errno> {
    selection.map_or_else(|| names(folder), |selection| Ok(selection.children.keys().cloned().collect()))
}

/// What surrounds a name: the folder it is in, and on which volume.
struct Around<'a> {
    folder: &'a OwnedFd,
    /// Whether everything here is taken, or only what leads to the chosen folders.
    selection: Option<&'a Selection>,
    device: Option<u64>,
}

struct Looking<'l> {
    view: &'l View<'l>,
    path: Vec<u8>,
    depth: usize,
    show: &'l mut dyn FnMut(Sight) -> ControlFlow<()>,
}

impl Looking<'_> {
    fn folder(
        &mut self,
        folder: &OwnedFd,
        names: Vec<Vec<u8>>,
        selection: Option<&Selection>,
        device: Option<u64>,
    ) -> ControlFlow<()> {
        for name in names {
            let below = selection.map(|s| &s.children[&name]);
            let around = Around { folder, selection: below.filter(|s| !s.whole), device };
            let length = self.path.len();
            self.path.push(b'/');
            self.path.extend(&name);
            self.name(&around, name, below.is_some())?;
            self.path.truncate(length);
        }
        (self.show)(Sight::Leave)
    }

    /// What a person named is not left out by a pattern.
    fn name(&mut self, around: &Around<'_>, name: Vec<u8>, is_chosen: bool) -> ControlFlow<()> {
        if self.path == self.view.own {
            return ControlFlow::Continue(());
        }
        if !is_chosen && self.view.patterns.leave_out(&self.path, &name) {
            return (self.show)(Sight::LeftOut);
        }
        let is_disk = self.view.reading == Reading::Disks && around.selection.is_none();
        let stat = match if is_disk { look_through(around.folder, &name) } else { look(around.folder, &name) } {
            Ok(stat) => stat,
            Err(error) => return (self.show)(Sight::Unseen(name, error)),
        };
        match kind(&stat) {
            Some(EntryKind::Directory) if is_disk => (self.show)(Sight::Unfit(name, "it was chosen as a disk, and is a folder")),
            Some(EntryKind::Directory) => self.go_into(around, Seen { name, stat }),
            Some(kind) => (self.show)(Sight::Leaf(Seen { name, stat }, kind)),
            None => (self.show)(Sight::Unfit(name, "it is of a kind that is not known")),
        }
    }

    fn go_into(&mut self, around: &Around<'_>, seen: Seen) -> ControlFlow<()> {
        // On the way to the chosen folders volumes do not matter; from there on the walk stays on one.
        let stays = around.selection.is_some() || around.device.is_none_or(|device| device == seen.stat.st_dev);
        if !stays {
            return (self.show)(Sight::Folder(seen, Inside::OtherVolume));
        }
        if self.depth == DEEPEST {
            return (self.show)(Sight::Folder(seen, Inside::TooDeep));
        }
        let device = around.selection.is_none().then_some(seen.stat.st_dev);
        match open(around, &seen.name) {
            Ok((folder, names)) => {
                (self.show)(Sight::Folder(seen, Inside::Open(Arc::clone(&folder))))?;
                self.depth += 1;
                let looked = self.folder(&folder, names, around.selection, device);
                self.depth -= 1;
                looked
            }
            Err(error) => (self.show)(Sight::Folder(seen, Inside::Closed(error))),
        }
    }
}

fn open(around: &Around<'_>, name: &[u8]) -> Result<(Arc<OwnedFd>, Vec<Vec<u8>>), Errno> {
    let folder = open_directory(around.folder, name)?;
    let names = names_of(&folder, around.selection)?;
    Ok((Arc::new(folder), names))
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::ffi::OsStrExt;
    use std::path::Path;

    use super::*;
    use crate::chosen::Folder;

    /// Sights below a folder as text, in their order.
    fn below(folder: &Path, own: &Path, patterns: &[&str]) -> Vec<String> {
        let selection = Selection::of(&[Folder(folder.into())]);
        let patterns = Patterns::compile(&patterns.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>()).expect("patterns");
        let view = View { selection: &selection, patterns: &patterns, own: own.as_os_str().as_bytes(), reading: Reading::Files };
        let on_the_way = folder.components().count() - 1;
        let seen: Vec<String> =
            std::thread::scope(|scope| look_ahead(scope, view).expect("the root opens").1.map(text).collect());
        let mut directly = Vec::new();
        view.look(&mut |sight| {
            directly.push(text(sight));
            ControlFlow::Continue(())
        })
        .expect("the root opens");
        assert_eq!(seen, directly);
        seen[on_the_way..seen.len() - on_the_way].to_vec()
    }

    fn text(sight: Sight) -> String {
        let text = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
        match sight {
            Sight::Leaf(seen, kind) => format!("{} {kind:?}", text(&seen.name)),
            Sight::Folder(seen, Inside::Open(_)) => format!("{}/", text(&seen.name)),
            Sight::Folder(seen, Inside::OtherVolume) => format!("{} of another volume", text(&seen.name)),
            Sight::Folder(seen, Inside::TooDeep) => format!("{} too deep", text(&seen.name)),
            Sight::Folder(seen, Inside::Closed(error)) => format!("{} closed: {error}", text(&seen.name)),
            Sight::Leave => "leave".into(),
            Sight::LeftOut => "left out".into(),
            Sight::Unseen(name, error) => format!("{} unseen: {error}", text(&name)),
            Sight::Unfit(name, why) => format!("{} unfit: {why}", text(&name)),
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
        std::os::unix::fs::symlink("a", root.path().join("link")).expect("made");
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
        assert_eq!(seen.iter().filter(|sight| *sight == "d/").count(), DEEPEST - above);
        assert_eq!(seen[DEEPEST - above], "d too deep");
    }

    #[test]
    fn a_walk_that_is_broken_off_ends_the_looking() {
        let root = tempfile::tempdir().expect("a directory");
        for file in 0..BATCH * (WAITING + 2) {
            fs::write(root.path().join(format!("{file:05}")), "").expect("written");
        }
        let selection = Selection::of(&[Folder(root.path().into())]);
        let patterns = Patterns::compile(&[]).expect("patterns");
        let view = View { selection: &selection, patterns: &patterns, own: b"", reading: Reading::Files };
        // The scope ends only when the thread has.
        std::thread::scope(|scope| assert!(look_ahead(scope, view).expect("the root opens").1.next().is_some()));
    }
}
