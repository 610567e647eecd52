//! Looking at everything that a rebuild put in place, and holding it against the point.

use std::collections::{BTreeSet, HashMap};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_image::crypto::random_array;
use jetfrost_image::format::{Cause, Entry, EntryKind};
use jetfrost_platform::{
    Accounts, Directory, ExtendedAttributes, Metadata, MetadataTarget, OpenDirectory, Paths as _, Restored, System, path_of,
};
use jetfrost_wire::run::Phase;
use jetfrost_wire::size::show;

use super::Result;
use super::boot::BootPart;
use super::checklist::{Checklist, Item, Paths, State};
use super::files::{MOUNT_POINTS, owners};
use crate::browse::{Browser, OpenPoint};
use crate::entries::{file_kind, modified};
use crate::progress::Meter;
use crate::restore::{NotRestored, Owners, Sample, Trouble};
use crate::same_content::is_content;
use crate::walk_tree::{Met, go_through};

/// Holds what is below `target` against a point: all entries, and the content of so many files of a hundred. `troubles` is what the restore
/// itself had to say.
///
/// # Errors
/// What the service said; [`ClientError::Stopped`]. What is not as it should be is in the list.
pub fn check(
    browser: &Browser,
    point: &OpenPoint,
    target: &Path,
    read_back: u8,
    troubles: &[NotRestored],
    meter: &Arc<Meter>,
) -> Result<Checklist> {
    meter.enter(Phase::Comparing);
    let owners = owners(browser, point)?;
    let seed = random_array(&crate::system_random());
    let sample = Sample::new(seed, f64::from(read_back.min(100)) / 100.0, u64::MAX);
    let is_root = System::is_administrator();
    let (users, groups) = (HashMap::new(), HashMap::new());
    let mut evidence = Evidence { browser, target, sample, owners, is_root, seen: Seen::default(), users, groups };
    go_through(browser, &point.body.root, meter, |met| match met {
        Met::Entry(path, entry) => evidence.look_at(path, entry),
        Met::DamagedFolder(path) => {
            evidence.seen.wrong.folders.add(path, "part of its listing is damaged or missing in the image store");
            Ok(())
        }
    })?;
    let mut items = evidence.items(read_back, point);
    if owners == Owners::ByNumber {
        items.push(of_mount_points(target));
    }
    items.push(of_troubles(troubles, target));
    items.extend(of_the_backup(browser, point)?);
    Ok(Checklist::new(browser, point, target, items))
}

/// What is looked at, by what, and what was found so far.
struct Evidence<'e> {
    browser: &'e Browser,
    target: &'e Path,
    sample: Sample,
    owners: Owners,
    is_root: bool,
    seen: Seen,
    users: HashMap<String, Option<u32>>,
    groups: HashMap<String, Option<u32>>,
}

/// What was found so far.
#[derive(Default)]
struct Seen {
    entries: u64,
    of_kind: HashMap<EntryKind, u64>,
    bytes: u64,
    read: u64,
    read_bytes: u64,
    attributes: u64,
    /// Of files with several names, the number that the first one has here.
    several: HashMap<(u64, u64), (u64, u64)>,
    boot: BTreeSet<BootPart>,
    wrong: Wrong,
}

/// What is not as it should be.
#[derive(Default)]
struct Wrong {
    missing: Paths,
    folders: Paths,
    contents: Paths,
    owners: Paths,
    settings: Paths,
    links: Paths,
    attributes: Paths,
}

impl Evidence<'_> {
    fn look_at(&mut self, path: &[u8], entry: &Entry) -> Result<()> {
        self.seen.entries += 1;
        *self.seen.of_kind.entry(entry.kind).or_default() += 1;
        self.seen.boot.extend(BootPart::at(path));
        let here = here(self.target, path);
        let found = match System::metadata_of(&here) {
            Ok(found) => found,
            Err(error) => {
                self.seen.wrong.missing.add(path, &error.to_string());
                return Ok(());
            }
        };
        if found.kind != Some(file_kind(entry.kind)) {
            self.seen.wrong.missing.add(path, "something else is there");
            return Ok(());
        }
        self.look_at_owner(path, entry, &found);
        self.look_at_settings(path, entry, &found);
        self.look_at_links(path, entry, &here, &found);
        self.look_at_attributes(path, entry, &here);
        self.look_at_content(path, entry, &here, &found)
    }

    fn look_at_owner(&mut self, path: &[u8], entry: &Entry, found: &Metadata) {
        let by_name = self.owners == Owners::ByName;
        let known =
            |ids: &mut HashMap<String, Option<u32>>, name: Option<&str>, id: u32, look_up: fn(&str) -> Option<u32>| match name {
                Some(name) if by_name => ids.entry(name.into()).or_insert_with(|| look_up(name)).unwrap_or(id),
                _ => id,
            };
        let uid = known(&mut self.users, entry.owner.as_deref(), entry.uid, System::user_id);
        let gid = known(&mut self.groups, entry.group.as_deref(), entry.gid, System::group_id);
        if (found.uid, found.gid) != (uid, gid) {
            self.seen.wrong.owners.add(path, &format!("{}:{} instead of {uid}:{gid}", found.uid, found.gid));
        }
    }

    fn look_at_settings(&mut self, path: &[u8], entry: &Entry, found: &Metadata) {
        if entry.kind != EntryKind::Symlink && found.mode != entry.mode {
            self.seen.wrong.settings.add(path, &format!("permissions {:o} instead of {:o}", found.mode, entry.mode));
        } else if found.modified != modified(entry) {
            self.seen.wrong.settings.add(path, "its time is another");
        } else if entry.device.is_some() && found.device != entry.device {
            self.seen.wrong.settings.add(path, "it is another device");
        }
    }

    fn look_at_links(&mut self, path: &[u8], entry: &Entry, here: &Path, found: &Metadata) {
        if entry.kind == EntryKind::Symlink {
            let target = fs::read_link(here).ok().map(|target| target.into_os_string().into_encoded_bytes());
            if target.as_deref() != entry.target.as_ref().map(|target| &target[..]) {
                self.seen.wrong.links.add(path, "it points elsewhere");
            }
        }
        if let Some(file) = entry.links {
            let first = *self.seen.several.entry(file).or_insert((found.volume, found.file));
            if first != (found.volume, found.file) {
                self.seen.wrong.links.add(path, "it is a file of its own, and was another name of one");
            }
        }
    }

    fn look_at_attributes(&mut self, path: &[u8], entry: &Entry, here: &Path) {
        let wanted = entry.xattrs.iter().flatten().filter(|(name, _)| self.is_root || !Restored::is_of_administrators(name));
        let wanted: Vec<_> = wanted.collect();
        let large = entry.large_xattrs.as_ref().map_or(0, Vec::len) as u64;
        if wanted.is_empty() && large == 0 {
            return;
        }
        let (Some(folder), Some(name)) = (here.parent(), here.file_name()) else { return };
        let name = jetfrost_platform::name_bytes(name);
        let directory = Directory::held(folder);
        for (attribute, value) in wanted {
            self.seen.attributes += 1;
            let shown = String::from_utf8_lossy(attribute).into_owned();
            match directory.as_ref().map(|directory| directory.named(name).attribute(attribute)) {
                Ok(Ok(Some(found))) if found == value[..] => {}
                Ok(Ok(_)) => self.seen.wrong.attributes.add(path, &format!("{shown} is missing or another")),
                Ok(Err(error)) => self.seen.wrong.attributes.add(path, &format!("{shown}: {error}")),
                Err(error) => self.seen.wrong.attributes.add(path, &format!("{shown}: {error}")),
            }
        }
        // The values of long ones lie elsewhere in the store: here they count as there, or not.
        for large in entry.large_xattrs.iter().flatten() {
            self.seen.attributes += 1;
            let found = directory.as_ref().map(|directory| directory.named(name).attribute(&large.name));
            if !matches!(found, Ok(Ok(Some(_)))) {
                self.seen.wrong.attributes.add(path, &format!("{} is missing", String::from_utf8_lossy(&large.name)));
            }
        }
    }

    fn look_at_content(&mut self, path: &[u8], entry: &Entry, here: &Path, found: &Metadata) -> Result<()> {
        let (EntryKind::File, Some(content)) = (entry.kind, &entry.content) else { return Ok(()) };
        self.seen.bytes += content.len;
        if found.size != content.len {
            self.seen.wrong.contents.add(path, &format!("it has {} bytes instead of {}", found.size, content.len));
            return Ok(());
        }
        if !self.sample.takes(path, entry) {
            return Ok(());
        }
        let same = match File::open(here) {
            Ok(mut file) => is_content(&self.browser.keys, &self.browser.source(), &mut file, content),
            Err(error) => Ok(Err(error)),
        };
        match same {
            Ok(Ok(true)) => {
                self.seen.read += 1;
                self.seen.read_bytes += content.len;
            }
            Ok(Ok(false)) => self.seen.wrong.contents.add(path, "its content is another"),
            Ok(Err(error)) => self.seen.wrong.contents.add(path, &error.to_string()),
            // The list of its parts is lost: it was told when it was to be restored.
            Err(error) if error.is_loss() => {}
            Err(error) => return Err(error),
        }
        Ok(())
    }

    fn items(self, read_back: u8, point: &OpenPoint) -> Vec<Item> {
        let Self { seen, owners, is_root, .. } = self;
        let Wrong { missing, folders, contents, owners: other_owners, settings, links, attributes } = seen.wrong;
        let of = |kind| seen.of_kind.get(&kind).copied().unwrap_or(0);
        let (files, directories, symbolic) = (of(EntryKind::File), of(EntryKind::Directory), of(EntryKind::Symlink));
        let others = seen.entries - files - directories - symbolic;
        let there = seen.entries - missing.count;
        let mut items = Vec::new();
        let kinds = [(files, "file"), (directories, "folder"), (symbolic, "link"), (others, "other")];
        let kinds = kinds.map(|(count, noun)| many(count, noun)).join(", ");
        let found = format!("{there} of {} are there: {kinds}; {}.", seen.entries, bytes(seen.bytes));
        items.push(missing.wrong_if_any("Entries", found));
        if folders.count > 0 {
            let found = format!("{} could not be listed whole: more of them is missing than can be told.", folders.count);
            items.push(folders.wrong_if_any("Folders", found));
        }
        items.push(of_contents(contents, read_back, seen.read, seen.read_bytes));
        items.push(of_owners(other_owners, owners, is_root));
        let found = match settings.count {
            0 => "All are as they were.".into(),
            count => format!("{count} entries have other permissions or times."),
        };
        items.push(settings.wrong_if_any("Permissions and times", found));
        let several = seen.several.len();
        let found =
            format!("{}, {several} of the files with several names: {}.", many(symbolic, "symbolic link"), but(links.count));
        items.push(links.wrong_if_any("Links", found));
        let found =
            format!("{}, access lists among them: {}.", many(seen.attributes, "extended attribute"), but(attributes.count));
        items.push(attributes.wrong_if_any("Attributes", found));
        items.push(of_boot(&seen.boot, point));
        items
    }
}

pub(super) fn many(count: u64, noun: &str) -> String {
    let plural = if noun.ends_with("ch") { "es" } else { "s" };
    format!("{count} {noun}{}", if count == 1 { "" } else { plural })
}

/// Of so many things all are right but these.
fn but(wrong: u64) -> String {
    if wrong == 0 { "all as they were".into() } else { format!("{wrong} not as they were") }
}

/// A size as people say it, and to the byte.
pub(super) fn bytes(bytes: u64) -> String {
    let shown = show(bytes);
    if shown.ends_with(" B") { shown } else { format!("{shown} ({bytes} bytes)") }
}

fn of_contents(wrong: Paths, read_back: u8, files: u64, read: u64) -> Item {
    let is_whole = read_back >= 100;
    let how = if is_whole { "every file was".into() } else { format!("a random {read_back} % of the files were") };
    let found = match wrong.count {
        0 => format!("All have their length; {how} read again, and match: {}, {}.", many(files, "file"), show(read)),
        count => format!("{} not as they were; {how} read again, and {} match.", many(count, "file"), many(files, "file")),
    };
    let item = wrong.wrong_if_any("Contents", found);
    Item { state: item.state.max(if is_whole { State::Right } else { State::Known }), ..item }
}

fn of_owners(wrong: Paths, owners: Owners, is_root: bool) -> Item {
    let by = match owners {
        Owners::ByNumber => "by number, as the accounts of the restored system have them",
        Owners::ByName => "by name, and by number where this machine has no such name",
    };
    let found = match wrong.count {
        0 => format!("All are as they were, {by}."),
        count if is_root => format!("{count} entries have another owner or group; they were given {by}."),
        count => format!("{count} entries belong to whoever ran this: only root can give them to others."),
    };
    wrong.wrong_if_any("Owners", found)
}

/// Where something of a point is below the directory that it was restored to.
fn here(target: &Path, path: &[u8]) -> PathBuf {
    target.join(path_of(path.strip_prefix(b"/").unwrap_or(path)))
}

fn of_boot(found: &BTreeSet<BootPart>, point: &OpenPoint) -> Item {
    let names = |parts: &mut dyn Iterator<Item = BootPart>| parts.map(BootPart::name).collect::<Vec<_>>().join(", ");
    let missing: Vec<BootPart> = BootPart::ALL.into_iter().filter(|part| !found.contains(part)).collect();
    let is_system = point.body.folders.iter().any(|folder| &folder[..] == b"/");
    let (state, said) = if found.is_empty() && !is_system {
        (State::Known, "There is nothing to start a machine from: the backup included no system.".into())
    } else if missing.is_empty() {
        (State::Right, format!("There is {}. The boot loader itself is installed anew.", names(&mut found.iter().copied())))
    } else {
        let there = if found.is_empty() { "nothing".into() } else { names(&mut found.iter().copied()) };
        (State::Known, format!("There is {there}, and not {}.", names(&mut missing.into_iter())))
    };
    Paths::default().item("Boot files", state, said)
}

/// Whether the directories are there that a system mounts things on; those that its backup left out were made.
fn of_mount_points(target: &Path) -> Item {
    let mut missing = Paths::default();
    for (name, _) in MOUNT_POINTS.iter().filter(|(name, _)| System::metadata_of(&target.join(name)).is_err()) {
        missing.add(format!("/{name}").as_bytes(), "it is missing");
    }
    let found = match missing.count {
        0 => "All that a system needs to start are there; those that the backup left out were made.".into(),
        count => format!("{count} of those that a system needs to start are missing."),
    };
    missing.wrong_if_any("Mount points", found)
}

fn of_troubles(troubles: &[NotRestored], target: &Path) -> Item {
    let mut paths = Paths::default();
    // Of these the backup itself tells.
    for trouble in troubles.iter().filter(|trouble| trouble.trouble != Trouble::Unsettled) {
        let within =
            trouble.path.strip_prefix(target).map_or_else(|_| trouble.path.clone(), |within| Path::new("/").join(within));
        paths.add(jetfrost_platform::path_bytes(&within), &trouble.explanation);
    }
    let found = match paths.count {
        0 => "Nothing was left out, and nothing was damaged.".into(),
        count => format!("{count} entries could not be restored exactly."),
    };
    paths.wrong_if_any("Restored exactly", found)
}

/// What the backup left out, and what it did not hold as it was: no restore brings that back.
fn of_the_backup(browser: &Browser, point: &OpenPoint) -> Result<Vec<Item>> {
    let mut included = Paths::default();
    point.body.folders.iter().for_each(|folder| included.add(folder, ""));
    let found = format!("The backup included {}.", many(included.count, "folder"));
    let mut items = vec![included.item("Included", State::Known, found)];
    let mut excluded = Paths::default();
    point.body.excluded.iter().for_each(|pattern| excluded.add(pattern.as_bytes(), ""));
    let found = match excluded.count {
        0 => "No pattern left anything out.".into(),
        count => format!("{} left things out.", many(count, "pattern")),
    };
    let state = if excluded.count == 0 { State::Right } else { State::Known };
    items.push(excluded.item("Excluded", state, found));
    items.push(exceptions_at_the_backup(browser, point)?);
    Ok(items)
}

pub(super) fn exceptions_at_the_backup(browser: &Browser, point: &OpenPoint) -> Result<Item> {
    let mut exceptions = Paths::default();
    match browser.exceptions(point) {
        Ok(all) => all.iter().for_each(|one| exceptions.add(&one.path, of_cause(one.cause))),
        Err(error) if error.is_loss() => {
            let found = format!("There were {}, and their list is damaged or missing.", point.head.exceptions);
            return Ok(exceptions.item("Exceptions at the backup", State::Wrong, found));
        }
        Err(error) => return Err(error),
    }
    let found = match exceptions.count {
        0 => "There were none.".into(),
        count => format!("{count} entries were not backed up as they were."),
    };
    let state = if exceptions.count == 0 { State::Right } else { State::Known };
    Ok(exceptions.item("Exceptions at the backup", state, found))
}

fn of_cause(cause: Cause) -> &'static str {
    match cause {
        Cause::ChangedWhileRead => "it kept changing while it was read",
        Cause::Unreadable => "it could not be read",
        Cause::Disappeared => "it was gone before it was read",
    }
}
