//! The selection: what is included and what is excluded.

use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};

use data_encoding::HEXLOWER;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use jetfrost_image::format::PointBody;
use jetfrost_platform::{Accounts, FileKind, Paths, System, Volumes, name_bytes, os_str, path_bytes, path_of};
use jetfrost_wire::workstation::PointKind;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::error::ClientError;
use crate::exclusion::{Rule, Template, Templates};

/// The folders and disks that are backed up and the patterns that leave things out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Selection {
    /// Absolute paths.
    pub folders: Vec<Folder>,
    /// Absolute paths of block devices and raw image files.
    pub disks: Vec<Folder>,
    /// Patterns.
    #[serde(alias = "skip")]
    pub exclude: Vec<String>,
    /// Exclusion templates, whose patterns leave things out as well.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub templates: Vec<Template>,
    /// Those of the included folders with which everything is included that is mounted below them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with_mounts: Vec<Folder>,
    /// Where volumes are mounted that hold included folders: without them a run would find nothing there, and nothing wrong.
    pub volumes: Vec<Folder>,
}

/// An included folder. One whose name is not UTF-8 is written in hexadecimal.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Folder(pub PathBuf);

const HEX_PREFIX: &str = "hex:";

impl Serialize for Folder {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.to_str() {
            Some(text) => serializer.serialize_str(text),
            None => serializer.serialize_str(&format!("{HEX_PREFIX}{}", HEXLOWER.encode(path_bytes(&self.0)))),
        }
    }
}

impl<'de> Deserialize<'de> for Folder {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let bytes = text.strip_prefix(HEX_PREFIX).and_then(|hex| HEXLOWER.decode(hex.as_bytes()).ok());
        Ok(Self(bytes.map_or_else(|| PathBuf::from(&text), |bytes| path_of(&bytes))))
    }
}

impl Selection {
    /// Includes a folder, or a single file. Symbolic links on the way are resolved: a walk does not follow them. Returns what is
    /// included now.
    ///
    /// # Errors
    /// [`ClientError::Folder`] when it is not there or not absolute.
    pub fn include(&mut self, path: &Path) -> Result<PathBuf, ClientError> {
        let absolute = absolute(path)?;
        let refuse = |why| ClientError::Folder { path: path.into(), why };
        let real = std::fs::canonicalize(&absolute).map_err(|_| refuse("it is not there, or not readable"))?;
        if let Some(volume) = mount_point_of(&real) {
            add(&mut self.volumes, volume);
        }
        add(&mut self.folders, real.clone());
        Ok(real)
    }

    /// Includes with a folder what is mounted below it, or no longer.
    pub fn include_mounts(&mut self, folder: &Path, with_mounts: bool) {
        self.with_mounts.retain(|one| one.0 != folder);
        if with_mounts {
            add(&mut self.with_mounts, folder.into());
        }
    }

    /// Where volumes with files are mounted now below included folders with which they are included.
    pub(crate) fn mounted_below(&self) -> Vec<PathBuf> {
        if self.with_mounts.is_empty() {
            return Vec::new();
        }
        // Where the system does not say, the volumes are not entered, and counted as such.
        let mut mounted = System::mounted_files().unwrap_or_default();
        mounted.retain(|at| self.with_mounts.iter().any(|folder| at.starts_with(&folder.0) && *at != folder.0));
        mounted
    }

    /// What is included of a kind now: what a person named, and what is mounted below, unless a pattern leaves that out.
    pub(crate) fn included_now(&self, kind: PointKind, patterns: &Patterns) -> Vec<Folder> {
        let mut included = self.of_kind(kind).to_vec();
        if kind == PointKind::Files {
            let holding = |at: &Path| {
                self.folders.iter().filter(|folder| at.starts_with(&folder.0)).map(|f| f.0.components().count()).max()
            };
            let is_left_out = |at: &PathBuf| {
                let below = at.components().count() - holding(at).unwrap_or_default();
                let mut on_the_way = at.ancestors().take(below);
                on_the_way.any(|path| path.file_name().is_some_and(|name| patterns.leave_out(path_bytes(path), name_bytes(name))))
            };
            self.mounted_below().into_iter().filter(|at| !is_left_out(at)).for_each(|at| add(&mut included, at));
        }
        included
    }

    /// What is worth a backup on a machine like this: for root what people, administrators and services keep, for others the home directory;
    /// without what programs make or fetch again.
    #[must_use]
    pub fn proposed() -> Self {
        let usual: Vec<PathBuf> = if System::is_administrator() {
            ["/home", "/root", "/etc", "/srv", "/usr/local", "/var/www"].map(PathBuf::from).into()
        } else {
            std::env::var_os("HOME").map(PathBuf::from).into_iter().collect()
        };
        let holds_something = |path: &PathBuf| std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_some());
        let mut proposed = Self::default();
        for folder in usual.iter().filter(|path| holds_something(path)) {
            // One that went meanwhile is not proposed.
            let _ = proposed.include(folder);
        }
        if !proposed.folders.is_empty() {
            [Template::Caches, Template::Trash, Template::BrowserCaches].into_iter().for_each(|one| proposed.exclude_by(one));
        }
        proposed
    }

    /// Whether nothing is included and nothing left out.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The selection that points were made with, by their bodies, the latest first: as one of them has it whole, or as far as those
    /// of earlier versions tell.
    pub(crate) fn of_points<'p>(bodies: impl Iterator<Item = (PointKind, &'p PointBody)> + Clone) -> Option<Self> {
        let whole = bodies.clone().find_map(|(_, body)| toml::from_str::<Self>(body.selection.as_ref()?).ok());
        whole.or_else(|| {
            let mut told = Self::default();
            for (kind, body) in bodies {
                let folders = body.folders.iter().map(|path| Folder(path_of(path)));
                match kind {
                    PointKind::Files => told.folders.extend(folders),
                    PointKind::Disk => told.disks.extend(folders),
                }
                told.exclude.extend(body.excluded.iter().cloned());
            }
            told.exclude.sort();
            told.exclude.dedup();
            (!told.is_empty()).then_some(told)
        })
    }

    /// Selection folders whose volume is not mounted now, as paths.
    pub(crate) fn unmounted(&self) -> Vec<Vec<u8>> {
        let missing: Vec<&Path> = self.volumes.iter().map(|volume| volume.0.as_path()).filter(|at| !is_mount_point(at)).collect();
        let lies_on_one = |folder: &&Folder| missing.iter().any(|volume| folder.0.starts_with(volume));
        self.folders.iter().filter(lies_on_one).map(|folder| path_bytes(&folder.0).to_vec()).collect()
    }

    /// What is included of a kind and is not there now, or on a volume that is not mounted.
    pub(crate) fn missing(&self, kind: PointKind) -> Vec<PathBuf> {
        let unmounted = self.unmounted();
        let is_there = |path: &Path| path.symlink_metadata().is_ok() && !unmounted.iter().any(|one| one == path_bytes(path));
        self.of_kind(kind).iter().map(|included| included.0.clone()).filter(|path| !is_there(path)).collect()
    }

    /// Adds a disk: a block device, or a raw image file.
    ///
    /// # Errors
    /// [`ClientError::Folder`] when it is not there, not absolute, or neither of the two.
    pub fn include_disk(&mut self, path: &Path) -> Result<(), ClientError> {
        let absolute = absolute(path)?;
        let refuse = |why| ClientError::Folder { path: path.into(), why };
        let kind = System::metadata_behind(&absolute).map_err(|_| refuse("it is not there, or not readable"))?.kind;
        if !matches!(kind, Some(FileKind::File | FileKind::BlockDevice)) {
            return Err(refuse("a disk is a block device or a raw image file; folders are included without --disk"));
        }
        add(&mut self.disks, absolute);
        Ok(())
    }

    /// Takes a folder or a disk out; false when it was not in.
    pub fn drop_folder(&mut self, path: &Path) -> bool {
        let absolute = std::path::absolute(path).unwrap_or_else(|_| path.into());
        let before = self.folders.len() + self.disks.len();
        // A link may lead elsewhere by now than when it was resolved.
        let real = std::fs::canonicalize(&absolute).unwrap_or_else(|_| absolute.clone());
        self.folders.retain(|folder| folder.0 != absolute && folder.0 != real);
        self.with_mounts.retain(|folder| folder.0 != absolute && folder.0 != real);
        self.disks.retain(|disk| disk.0 != absolute);
        let folders = &self.folders;
        self.volumes.retain(|volume| folders.iter().any(|folder| folder.0.starts_with(&volume.0)));
        self.folders.len() + self.disks.len() < before
    }

    /// What is included of a kind.
    #[must_use]
    pub fn of_kind(&self, kind: PointKind) -> &[Folder] {
        match kind {
            PointKind::Files => &self.folders,
            PointKind::Disk => &self.disks,
        }
    }

    /// The kinds of which anything is included.
    #[must_use]
    pub fn kinds(&self) -> Vec<PointKind> {
        [PointKind::Files, PointKind::Disk].into_iter().filter(|kind| !self.of_kind(*kind).is_empty()).collect()
    }

    /// Adds a pattern.
    ///
    /// # Errors
    /// [`ClientError::Pattern`].
    pub fn exclude(&mut self, pattern: &str) -> Result<(), ClientError> {
        Patterns::compile(&[pattern.to_owned()])?;
        self.exclude.push(pattern.to_owned());
        self.exclude.sort();
        self.exclude.dedup();
        Ok(())
    }

    /// Adds a template.
    pub fn exclude_by(&mut self, template: Template) {
        self.templates.push(template);
        self.templates.sort();
        self.templates.dedup();
    }

    /// Takes a template out; false when it was not in.
    pub fn drop_template(&mut self, template: Template) -> bool {
        let before = self.templates.len();
        self.templates.retain(|one| *one != template);
        self.templates.len() < before
    }

    /// All that leaves something out: its own patterns, then those of its templates, then those of the office's.
    #[must_use]
    pub fn rules(&self, office: Templates) -> Vec<Rule> {
        let own = self.exclude.iter().map(|pattern| Rule { pattern: pattern.clone(), template: None, by_office: false });
        let of = |(template, by_office): (Template, bool)| {
            let rule = move |pattern: &&str| Rule { pattern: (*pattern).to_owned(), template: Some(template), by_office };
            template.patterns().iter().map(rule)
        };
        own.chain(self.all_templates(office).flat_map(of)).collect()
    }

    /// Its templates, then those of the office's that it does not have itself; for each whether it is the office's.
    pub(crate) fn all_templates(&self, office: Templates) -> impl Iterator<Item = (Template, bool)> {
        let more = office.iter().filter(|template| !self.templates.contains(template));
        self.templates.iter().map(|template| (*template, false)).chain(more.map(|template| (template, true)))
    }

    /// Takes a pattern out; false when it was not in.
    pub fn drop_pattern(&mut self, pattern: &str) -> bool {
        let before = self.exclude.len();
        self.exclude.retain(|p| p != pattern);
        self.exclude.len() < before
    }
}

fn absolute(path: &Path) -> Result<PathBuf, ClientError> {
    let refuse = |why| ClientError::Folder { path: path.into(), why };
    let absolute = std::path::absolute(path).map_err(|_| refuse("the path cannot be made absolute"))?;
    if absolute.components().any(|c| c == Component::ParentDir) {
        return Err(refuse("write the path without '..'"));
    }
    Ok(absolute)
}

/// Where the volume is mounted that a path lies on; none for the root's own.
fn mount_point_of(path: &Path) -> Option<PathBuf> {
    path.ancestors().find(|at| is_mount_point(at)).filter(|at| at.parent().is_some()).map(Path::to_path_buf)
}

/// Whether another volume begins here than the one above.
fn is_mount_point(at: &Path) -> bool {
    let device = |path: &Path| System::metadata_behind(path).ok().map(|found| found.volume);
    match (device(at), at.parent()) {
        (Some(_), None) => true,
        (Some(here), Some(above)) => device(above).is_some_and(|above| above != here),
        (None, _) => false,
    }
}

fn add(list: &mut Vec<Folder>, path: PathBuf) {
    list.push(Folder(path));
    list.sort();
    list.dedup();
}

/// Compiled patterns.
#[derive(Debug)]
pub(crate) struct Patterns {
    names: GlobSet,
    paths: GlobSet,
    /// Which of the patterns those are, by their numbers.
    name_rules: Vec<usize>,
    path_rules: Vec<usize>,
    heeds_cache_tags: bool,
}

impl Patterns {
    /// Those of a selection and of the office: their rules in their order.
    pub(crate) fn of(selection: &Selection, office: Templates) -> Result<Self, ClientError> {
        let patterns: Vec<String> = selection.rules(office).into_iter().map(|rule| rule.pattern).collect();
        let heeds_cache_tags = selection.all_templates(office).any(|(template, _)| template.heeds_cache_tags());
        Ok(Self { heeds_cache_tags, ..Self::compile(&patterns)? })
    }

    /// Compiles patterns: one without `/` is a name, one with `/` a path from the root.
    pub(crate) fn compile(patterns: &[String]) -> Result<Self, ClientError> {
        let mut names = GlobSetBuilder::new();
        let mut paths = GlobSetBuilder::new();
        let (mut name_rules, mut path_rules) = (Vec::new(), Vec::new());
        for (number, pattern) in patterns.iter().enumerate() {
            let bad = |why: String| ClientError::Pattern { pattern: pattern.clone(), why };
            let trimmed = pattern.trim_end_matches('/');
            if trimmed.is_empty() {
                return Err(bad("it is empty".into()));
            }
            let is_path = trimmed.contains('/');
            if is_path && !trimmed.starts_with(['/', '*']) {
                return Err(bad("a pattern with '/' begins with '/' or '**/'".into()));
            }
            let glob = GlobBuilder::new(trimmed)
                .literal_separator(true)
                .backslash_escape(true)
                .build()
                .map_err(|e| bad(e.kind().to_string()))?;
            if is_path {
                paths.add(glob);
                path_rules.push(number);
            } else {
                names.add(glob);
                name_rules.push(number);
            }
        }
        let build =
            |set: GlobSetBuilder| set.build().map_err(|e| ClientError::Pattern { pattern: String::new(), why: e.to_string() });
        Ok(Self { names: build(names)?, paths: build(paths)?, name_rules, path_rules, heeds_cache_tags: false })
    }

    /// Whether what lies in a directory that is tagged as a cache is left out.
    pub(crate) fn heeds_cache_tags(&self) -> bool {
        self.heeds_cache_tags
    }

    /// The number of the first pattern that leaves something out; none when none does.
    pub(crate) fn which(&self, path: &[u8], name: &[u8]) -> Option<usize> {
        let by_name = self.names.matches(os_str(name)).into_iter().map(|at| self.name_rules[at]);
        let by_path = self.paths.matches(os_str(path)).into_iter().map(|at| self.path_rules[at]);
        by_name.chain(by_path).min()
    }

    /// Whether something is left out: `path` is absolute and ends with `name`.
    pub(crate) fn leave_out(&self, path: &[u8], name: &[u8]) -> bool {
        (!self.names.is_empty() && self.names.is_match(os_str(name)))
            || (!self.paths.is_empty() && self.paths.is_match(os_str(path)))
    }
}

/// The included folders as a tree from the root: what lies on the way to them, and where everything is taken.
#[derive(Debug, Default)]
pub(crate) struct SelectionTree {
    /// Everything from here on.
    pub(crate) whole: bool,
    pub(crate) children: BTreeMap<Vec<u8>, Self>,
}

impl SelectionTree {
    pub(crate) fn of(folders: &[Folder]) -> Self {
        let mut root = Self::default();
        for folder in folders {
            let mut node = &mut root;
            for component in folder.0.components() {
                if let Component::Normal(name) = component {
                    node = node.children.entry(name_bytes(name).to_vec()).or_default();
                }
            }
            node.whole = true;
        }
        root
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_platform::make_link;

    use super::*;

    fn leaves_out(patterns: &[&str], path: &str) -> bool {
        let patterns: Vec<String> = patterns.iter().map(|p| (*p).to_owned()).collect();
        let name = path.rsplit('/').next().expect("a path");
        Patterns::compile(&patterns).expect("patterns").leave_out(path.as_bytes(), name.as_bytes())
    }

    #[test]
    fn a_selection_comes_back_from_points_whole_or_as_far_as_older_ones_tell() {
        let mut made = Selection::default();
        made.folders.push(Folder("/srv/maps".into()));
        made.disks.push(Folder("/dev/vg/registry".into()));
        made.exclude.push("*.tmp".into());
        made.exclude_by(Template::Trash);
        let body = |selection: Option<String>, folders: &[&str], excluded: &[&str]| PointBody {
            folders: folders.iter().map(|path| path.as_bytes().to_vec().into()).collect(),
            excluded: excluded.iter().map(|pattern| (*pattern).to_owned()).collect(),
            selection,
            ..PointBody::default()
        };
        let of = |bodies: &[(PointKind, PointBody)]| Selection::of_points(bodies.iter().map(|(kind, body)| (*kind, body)));
        let whole = body(toml::to_string(&made).ok(), &["/srv/maps"], &["*.tmp"]);
        let older = body(None, &["/srv/maps", "/srv/old"], &["*.tmp", "*.o"]);
        assert_eq!(of(&[(PointKind::Files, older.clone()), (PointKind::Disk, whole)]), Some(made));
        let later = body(Some("orbits = 7".into()), &["/dev/vg/registry"], &[]);
        let told = of(&[(PointKind::Disk, later), (PointKind::Files, older)]).expect("told");
        assert_eq!((told.folders.len(), told.disks.len(), told.exclude), (2, 1, vec!["*.o".to_owned(), "*.tmp".to_owned()]));
        assert_eq!(of(&[]), None);
    }

    #[test]
    fn a_pattern_without_a_slash_is_a_name_at_any_depth() {
        assert!(leaves_out(&["*.tmp"], "/home/anna/a/b.tmp"));
        assert!(leaves_out(&["node_modules/"], "/home/anna/web/node_modules"));
        assert!(!leaves_out(&["*.tmp"], "/home/anna/tmp"));
    }

    #[test]
    fn a_pattern_with_a_slash_is_a_path() {
        assert!(leaves_out(&["/home/*/Downloads"], "/home/anna/Downloads"));
        assert!(!leaves_out(&["/home/*/Downloads"], "/home/anna/old/Downloads"));
        assert!(leaves_out(&["/home/**/cache"], "/home/anna/x/y/cache"));
        assert!(leaves_out(&["**/build/*.o"], "/srv/build/a.o"));
    }

    #[test]
    fn a_pattern_that_could_not_mean_anything_is_refused() {
        for pattern in ["", "/", "a[", "some/relative"] {
            assert!(Patterns::compile(&[pattern.to_owned()]).is_err(), "{pattern}");
        }
    }

    #[test]
    fn a_link_is_kept_as_what_it_leads_to() {
        let root = tempfile::tempdir().expect("a directory");
        let real = root.path().join("real/inner");
        std::fs::create_dir_all(&real).expect("made");
        make_link(Path::new("real"), &root.path().join("link")).expect("made");
        let mut selection = Selection::default();
        assert_eq!(selection.include(&root.path().join("link/inner")).expect("kept"), real.canonicalize().expect("there"));
        assert!(selection.drop_folder(&root.path().join("link/inner")) && selection.folders.is_empty());
    }

    #[test]
    fn a_folder_whose_volume_is_not_mounted_is_known() {
        let root = tempfile::tempdir().expect("a directory");
        let folder = root.path().join("volume/papers");
        std::fs::create_dir_all(&folder).expect("made");
        let selection = Selection {
            folders: vec![Folder(folder.clone())],
            volumes: vec![Folder(root.path().join("volume"))],
            ..Selection::default()
        };
        assert_eq!(selection.unmounted(), [path_bytes(&folder).to_vec()]);
        let mut proc = Selection::default();
        proc.include(Path::new("/proc/self")).expect("kept");
        assert_eq!((proc.volumes.len(), proc.unmounted().len()), (1, 0), "it is mounted");
    }

    #[test]
    fn folders_with_any_name_are_kept_in_the_file() {
        let folder = Folder(path_of(b"/srv/m\xfcnster"));
        let disks = vec![Folder("/dev/disk/by-id/first".into())];
        let selection = Selection {
            folders: vec![folder, Folder("/home/anna".into())],
            disks,
            exclude: vec!["*.tmp".into()],
            ..Selection::default()
        };
        let text = toml::to_string(&selection).expect("writes");
        assert_eq!(toml::from_str::<Selection>(&text).expect("reads"), selection);
    }

    #[test]
    fn the_selection_of_an_earlier_version_is_read_and_written_under_todays_words() {
        let directory = tempfile::tempdir().expect("a directory");
        let state_dir = crate::state_dir::StateDir::new(directory.path());
        std::fs::write(directory.path().join("chosen.toml"), "folders = [\"/home/anna\"]\nskip = [\"*.tmp\"]\n")
            .expect("written");
        let selection = state_dir.selection().expect("read");
        assert_eq!((selection.folders.len(), selection.exclude.as_slice()), (1, ["*.tmp".to_owned()].as_slice()));
        state_dir.write_selection(&selection).expect("written");
        assert_eq!(state_dir.selection().expect("read"), selection);
        let text = std::fs::read_to_string(directory.path().join("selection.toml")).expect("there");
        assert!(text.contains("exclude = "), "{text}");
    }
}
