//! Image stores in a directory: reading one without the service, and salvaging a damaged one on a copy.

use jetfrost_wire::point::Point;
use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

pub use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::crypto::{OfficeKey, OpenError, Secret, StoreKey, unwrap_key, unwrap_with_office_key};
pub use jetfrost_image::format::SlotKind;
use jetfrost_image::format::{Content, Entry, EntryKind, Slot};
use jetfrost_image::medium::{DirectoryMedium, Medium, OverlayMedium};
pub use jetfrost_image::store::{Finding, Mended, Rebuilt, Wrong};
use jetfrost_image::store::{Headway, Store, mend};
use jetfrost_image::tree::{Readable, parts_or_lost, read_listing};
use jetfrost_platform::{FileContent, NewDirectory, Paths, System, Volumes, is_medium_error};
use jiff::Timestamp;
use serde::Deserialize;
use tempfile::TempDir;

use crate::browse::{At, Browser};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::state_dir::StateDir;
use crate::store_source::{StoreDirectory, StoreSource};

type Result<T> = std::result::Result<T, ClientError>;

/// Names of staging areas; what was never finished is not worth copying.
const STAGING: &str = "staging";
/// Where a file cannot be read, only blocks of this size are lost.
const BLOCK: usize = 4096;
/// `owner.json` is not read beyond this.
const MOST_OWNER: u64 = 64 << 10;

/// What opens an image store.
pub enum Opening<'o> {
    /// Its image passphrase or recovery key.
    Secret(Secret<'o>),
    /// The office key.
    Office(&'o OfficeKey),
}

impl Opening<'_> {
    pub(crate) fn open(&self, slot: &Slot) -> std::result::Result<StoreKey, OpenError> {
        match self {
            Self::Secret(secret) => unwrap_key(slot, *secret),
            Self::Office(office) => unwrap_with_office_key(slot, office),
        }
    }
}

/// An image store in a directory, without its key.
#[derive(Clone)]
pub struct FoundStore(Arc<StoreDirectory>);

impl FoundStore {
    /// Opens the store in `directory` for reading; nothing there is changed.
    ///
    /// # Errors
    /// [`ClientError::NotAStore`]; [`ClientError::Store`] when it is damaged: then it wants salvaging.
    pub fn open(directory: &Path) -> Result<Self> {
        check_is_store(directory)?;
        let (medium, scratch) = overlay(directory)?;
        Ok(Self(Arc::new(StoreDirectory { store: Store::open(medium)?, scratch: Some(scratch) })))
    }

    /// What opens it, as far as its slots can be read: for which kind of secret, and when that was made.
    ///
    /// # Errors
    /// [`ClientError::Store`].
    pub fn ways_in(&self) -> Result<Vec<(SlotKind, Timestamp)>> {
        let slots = self.0.store.slots()?;
        let sound = slots.iter().filter_map(|bytes| Slot::from_bytes(bytes).ok());
        Ok(sound.map(|slot| (slot.kind, Timestamp::from_second(slot.created).unwrap_or_default())).collect())
    }

    /// Its key, if this machine is its workstation.
    #[must_use]
    pub fn key_of(&self, state_dir: &StateDir) -> Option<StoreKeys> {
        let membership = state_dir.membership().ok()?;
        state_dir.keys(&membership).ok().filter(|keys| keys.store == self.0.store.id())
    }

    /// Its key, by something that opens it.
    ///
    /// # Errors
    /// [`ClientError::WrongPassphrase`] or [`ClientError::DamagedSlots`] when none of its slots is opened.
    pub fn unlock(&self, opening: &Opening<'_>) -> Result<StoreKeys> {
        let slots = self.0.store.slots()?;
        let sound: Vec<Slot> = slots.iter().filter_map(|bytes| Slot::from_bytes(bytes).ok()).collect();
        let key = sound.iter().find_map(|slot| opening.open(slot).ok());
        let key = key.ok_or_else(|| ClientError::wrong_secret(slots.len() - sound.len()))?;
        Ok(StoreKeys::derive(self.0.store.id(), &key))
    }

    /// Looks into it with its key.
    #[must_use]
    pub fn browse(self, keys: StoreKeys) -> Browser {
        Browser { source: StoreSource::Directory(self.0), keys }
    }
}

/// A medium that shows a directory and writes elsewhere.
fn overlay(directory: &Path) -> Result<(Arc<dyn Medium>, TempDir)> {
    let scratch = tempfile::tempdir().map_err(ClientError::file("making", std::env::temp_dir()))?;
    let below = Arc::new(DirectoryMedium::new(directory));
    let above = Arc::new(DirectoryMedium::new(scratch.path()));
    Ok((Arc::new(OverlayMedium::new(below, above)), scratch))
}

#[derive(Deserialize)]
struct Owner {
    workstation: String,
    account: String,
}

/// A directory with an image store in it, and whose that says it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct StoreInDirectory {
    /// The directory.
    pub path: PathBuf,
    /// Workstation and account; none where the directory does not say.
    pub whose: Option<(String, String)>,
}

impl StoreInDirectory {
    /// Whose it is, in words.
    #[must_use]
    pub fn whose_in_words(&self) -> String {
        match &self.whose {
            Some((workstation, account)) => format!("of workstation {workstation}, {account}"),
            None => "of an unknown workstation".into(),
        }
    }
}

/// The image stores in a destination's directory; the one that the directory itself is, if it is one.
#[must_use]
pub fn stores_in(directory: &Path) -> Vec<StoreInDirectory> {
    // Whoever wrote these names may have meant them for a terminal.
    let plain = |name: String| name.replace(char::is_control, "�");
    let store = |path: PathBuf| {
        let whose = owner_of(&path).map(|owner| (plain(owner.workstation), plain(owner.account)));
        StoreInDirectory { path, whose }
    };
    if is_store(directory) {
        return vec![store(directory.into())];
    }
    let mut stores: Vec<StoreInDirectory> =
        fs::read_dir(directory.join("stores")).into_iter().flatten().flatten().map(|entry| store(entry.path())).collect();
    stores.sort();
    stores
}

fn is_store(directory: &Path) -> bool {
    ["store.cbor", "segments"].iter().any(|name| directory.join(name).exists())
}

/// Refuses what is no store, and says which stores a destination holds.
fn check_is_store(directory: &Path) -> Result<()> {
    if is_store(directory) {
        return Ok(());
    }
    let stores: Vec<String> =
        stores_in(directory).iter().map(|store| format!("{} {}", store.path.display(), store.whose_in_words())).collect();
    let why = if stores.is_empty() {
        "no store.cbor and no segments are in it".into()
    } else {
        format!("it holds:\n    {}", stores.join("\n    "))
    };
    Err(ClientError::NotAStore { path: directory.into(), why })
}

/// Whose a store is, as far as its directory says so.
fn owner_of(store: &Path) -> Option<Owner> {
    let mut bytes = Vec::new();
    File::open(store.join("owner.json")).ok()?.take(MOST_OWNER).read_to_end(&mut bytes).ok()?;
    serde_json::from_slice(&bytes).ok()
}

/// How a copy was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Copied {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Whether they are further names of the same files, which takes no room.
    pub by_links: bool,
    /// Bytes that could not be read; zeros are in their place.
    pub unreadable: u64,
}

/// What a salvage came to.
#[derive(Debug)]
pub struct Salvaged {
    /// The copy, unless it was a preview.
    pub copied: Option<Copied>,
    /// What was mended without a key.
    pub mended: Mended,
}

/// A store that is being salvaged.
pub struct Salvage(FoundStore);

impl Salvage {
    /// Copies the store in `directory` to `copy`, which must not be there, and mends the copy as far as that takes no key.
    /// Without `copy` the same is done in passing, and `directory` stays as it is.
    ///
    /// # Errors
    /// [`ClientError::NotAStore`]; [`ClientError::NoRoomToWrite`]; [`ClientError::Target`] when `copy` will not do;
    /// [`ClientError::Store`] when nothing tells which store it is.
    pub fn begin(directory: &Path, copy: Option<&Path>, meter: &Meter) -> Result<(Self, Salvaged)> {
        check_is_store(directory)?;
        let (medium, scratch, copied) = match copy {
            Some(copy) => {
                let copied = copy_store(directory, copy, meter)?;
                let medium: Arc<dyn Medium> = Arc::new(DirectoryMedium::new(copy));
                (medium, None, Some(copied))
            }
            None => {
                let (medium, scratch) = overlay(directory)?;
                (medium, Some(scratch), None)
            }
        };
        let (store, mended) = mend(&medium, &mut |headway: Headway| {
            meter.show_files(headway.done, headway.total);
            !meter.is_stopped()
        })?;
        let found = FoundStore(Arc::new(StoreDirectory { store, scratch }));
        Ok((Self(found), Salvaged { copied, mended }))
    }

    /// The store as far as it is mended.
    #[must_use]
    pub fn store(&self) -> FoundStore {
        self.0.clone()
    }

    /// Rebuilds with the key what can be rebuilt, and says what is lost, by point and path.
    ///
    /// # Errors
    /// [`ClientError::Store`] when the medium fails.
    pub fn complete(self, keys: StoreKeys) -> Result<(Rebuilt, Vec<PointLosses>)> {
        let rebuilt = self.0.0.store.rebuild(&keys, &crate::system_random())?;
        let browser = self.0.browse(keys);
        let losses = losses(&browser)?;
        Ok((rebuilt, losses))
    }
}

/// Copies a store: by links where the file system can, else file by file after a look at the room.
fn copy_store(from: &Path, to: &Path, meter: &Meter) -> Result<Copied> {
    if to.symlink_metadata().is_ok() {
        return Err(ClientError::Target { path: to.into(), why: "it is there already; the copy needs a new directory" });
    }
    let files = files_below(from)?;
    let parent = to.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let device = |path: &Path| {
        System::metadata_behind(path).map(|metadata| metadata.volume).map_err(ClientError::file("looking at", path))
    };
    let bytes = files.iter().map(|(_, len)| len).sum();
    let by_links = device(from)? == device(parent)? && can_link(&files, from, parent);
    if !by_links {
        check_room(parent, bytes)?;
    }
    meter.expect(files.len() as u64, bytes);
    let mut copied = Copied { files: files.len() as u64, bytes, by_links, unreadable: 0 };
    let all = files.into_iter().try_for_each(|(path, len)| {
        if meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        let (source, target) = (from.join(&path), to.join(&path));
        let copy = || {
            fs::DirBuilder::new().recursive(true).private().create(target.parent().unwrap_or(to))?;
            if by_links { fs::hard_link(&source, &target).map(|()| 0) } else { copy_file(&source, &target) }
        };
        copied.unreadable += copy().map_err(ClientError::file("copying", &source))?;
        meter.bytes_done(len);
        meter.file_done();
        Ok(())
    });
    match all {
        Ok(()) => Ok(copied),
        Err(error) => {
            // Half a copy would only stand in the way of the next attempt; it was made just now, and nothing else is in it.
            let _ = fs::remove_dir_all(to);
            Err(error)
        }
    }
}

/// The regular files below a directory, but for those that were never finished, and their lengths.
fn files_below(root: &Path) -> Result<Vec<(PathBuf, u64)>> {
    let (mut files, mut folders) = (Vec::new(), vec![PathBuf::new()]);
    while let Some(folder) = folders.pop() {
        let path = root.join(&folder);
        let failed = || ClientError::file("listing", &path);
        for entry in fs::read_dir(&path).map_err(failed())? {
            let entry = entry.map_err(failed())?;
            let (name, metadata) = (folder.join(entry.file_name()), entry.metadata().map_err(failed())?);
            if metadata.is_dir() && name != Path::new(STAGING) {
                folders.push(name);
            } else if metadata.is_file() {
                files.push((name, metadata.len()));
            }
        }
    }
    files.sort();
    Ok(files)
}

/// Whether a file can get a further name beside the copy.
fn can_link(files: &[(PathBuf, u64)], from: &Path, parent: &Path) -> bool {
    let Some((first, _)) = files.first() else { return false };
    let Ok(directory) = tempfile::tempdir_in(parent) else { return false };
    fs::hard_link(from.join(first), directory.path().join("probe")).is_ok()
}

/// Refuses when a volume has not so many bytes free.
pub(crate) fn check_room(on: &Path, wanted: u64) -> Result<()> {
    let (_, free) = System::size_and_free(on).map_err(ClientError::file("looking at", on))?;
    if free < wanted { Err(ClientError::NoRoomToWrite { path: on.into(), wanted, free }) } else { Ok(()) }
}

/// Copies a file, as a clone where the file system can; returns the bytes that could not be read.
fn copy_file(source: &Path, target: &Path) -> io::Result<u64> {
    let copied = fs::copy(source, target);
    let unreadable = match copied {
        Ok(_) => 0,
        // The source, and not the target: what can be read of it is worth having.
        Err(e) if is_medium_error(&e) => copy_blocks(source, target)?,
        Err(e) => return Err(e),
    };
    File::open(target)?.sync_data()?;
    Ok(unreadable)
}

fn copy_blocks(source: &Path, target: &Path) -> io::Result<u64> {
    let (from, mut to) = (File::open(source)?, File::create(target)?);
    let (len, mut at, mut unreadable) = (from.metadata()?.len(), 0, 0);
    while at < len {
        let mut block = vec![0; usize::try_from(len - at).unwrap_or(BLOCK).min(BLOCK)];
        if from.read_all_at(&mut block, at).is_err() {
            block.fill(0);
            unreadable += block.len() as u64;
        }
        to.write_all(&block)?;
        at += block.len() as u64;
    }
    Ok(unreadable)
}

/// What a point has lost.
#[derive(Debug, Clone)]
pub struct PointLosses {
    /// The point.
    pub point: Point,
    /// What it lost, by path.
    pub lost: Vec<Lost>,
}

/// Something of which a part is lost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lost {
    /// Absolute path; that of a folder ends with `/`.
    pub path: Vec<u8>,
    /// Bytes that are lost; not known of what was in a folder.
    pub bytes: Option<u64>,
    /// Bytes that it had.
    pub of: u64,
}

impl Lost {
    fn folder(path: &[u8]) -> Self {
        Self { path: [path, b"/"].concat(), bytes: None, of: 0 }
    }
}

/// What each point of a store in a directory has lost, latest first.
///
/// # Errors
/// [`ClientError::Store`] when the medium fails.
pub fn losses(browser: &Browser) -> Result<Vec<PointLosses>> {
    let mut sound = HashSet::new();
    let mut losses = Vec::new();
    for point in browser.points()? {
        let mut lost = Vec::new();
        match browser.any_point(&At::Sequence(point.sequence)) {
            Ok(opened) => drop(lost_below(browser, b"", &opened.body.root, &mut sound, &mut lost)?),
            Err(ClientError::Damaged | ClientError::Format(_)) => lost.push(Lost::folder(b"")),
            Err(other) => return Err(other),
        }
        losses.push(PointLosses { point, lost });
    }
    Ok(losses)
}

/// Adds what is lost in a folder; folders that were found sound are not gone through again. Says whether this one is.
fn lost_below(
    browser: &Browser,
    path: &[u8],
    listing: &Content,
    sound: &mut HashSet<Content>,
    lost: &mut Vec<Lost>,
) -> Result<bool> {
    if sound.contains(listing) {
        return Ok(true);
    }
    let before = lost.len();
    let mut entries: Vec<Entry> = Vec::new();
    let read = read_listing(&browser.source(), listing, &mut |entry| {
        entries.push(entry);
        Ok(())
    });
    match read {
        Err(ClientError::Damaged | ClientError::Format(_)) => lost.push(Lost::folder(path)),
        other => other?,
    }
    for entry in entries {
        let below = [path, b"/", &entry.name].concat();
        for value in entry.attribute_contents() {
            let bytes = lost_of(browser, value)?;
            if bytes > 0 {
                lost.push(Lost { path: below.clone(), bytes: Some(bytes), of: value.len });
            }
        }
        match (entry.kind, &entry.content) {
            (EntryKind::Directory, Some(listing)) => drop(lost_below(browser, &below, listing, sound, lost)?),
            (_, Some(content)) => {
                let bytes = lost_of(browser, content)?;
                if bytes > 0 {
                    lost.push(Lost { path: below, bytes: Some(bytes), of: content.len });
                }
            }
            (_, None) => {}
        }
    }
    let is_sound = lost.len() == before;
    if is_sound {
        sound.insert(listing.clone());
    }
    Ok(is_sound)
}

/// How many bytes of a content are lost.
fn lost_of(browser: &Browser, content: &Content) -> Result<u64> {
    let (mut names, mut lengths, mut lost) = (Vec::new(), Vec::new(), 0);
    parts_or_lost(&browser.source(), content, &ClientError::is_loss, &mut |_, part, readable| {
        match (readable, part.name) {
            (Readable::Lost, _) => lost += part.len,
            (Readable::Known, Some(name)) => {
                names.push(name);
                lengths.push(part.len);
            }
            (Readable::Known, None) => {}
        }
        Ok(())
    })?;
    let missing = browser.source.missing(&names)?;
    Ok(lost + lengths.iter().zip(missing).filter_map(|(len, missing)| missing.then_some(len)).sum::<u64>())
}
