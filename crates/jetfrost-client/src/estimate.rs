//! What a selection comes to before anything is backed up, and why something is in it or not.

use std::collections::{BTreeMap, BinaryHeap, HashMap, HashSet};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use jetfrost_image::format::EntryKind;
use jetfrost_platform::{Directory, FileKind, Metadata, OpenDirectory, Paths, System, name_bytes, path_bytes, path_of};
use jetfrost_wire::workstation::PointKind;
use serde::Serialize;

use crate::error::ClientError;
use crate::exclusion::{CACHE_TAG, Rule, Template, Templates};
use crate::scan::{DirEntry, Inside, Reading, Seen, StandIns, View, is_tagged_cache};
use crate::selection::{Folder, Patterns, Selection, SelectionTree};

type Result<T> = std::result::Result<T, ClientError>;

/// So many of the largest things are told.
const LARGEST: usize = 10;
/// A file of this size may be one of them, in bytes; smaller ones count for their folder.
const LARGE_FILE: u64 = 16 << 20;
/// What holds more than this share of a folder is told in its place.
const MOST_OF_IT: f64 = 0.6;

/// Files and bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Amount {
    /// Files.
    pub files: u64,
    /// Their bytes, without holes.
    pub bytes: u64,
}

impl Amount {
    fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes += bytes;
    }
}

/// What a selection comes to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Estimate {
    /// What would be backed up.
    pub included: Amount,
    /// What rules leave out of it.
    pub excluded: Amount,
    /// What each rule leaves out, the largest first. What several match counts for the first.
    pub by_rule: Vec<(Rule, Amount)>,
    /// The largest folders and files that would be backed up, with their bytes.
    pub largest: Vec<(PathBuf, u64)>,
    /// Other volumes that are mounted within what is included, and not entered.
    pub other_volumes: Vec<PathBuf>,
    /// Names that could not be looked at.
    pub unreadable: u64,
}

/// Looks at everything that is included, also what is left out of it.
///
/// # Errors
/// [`ClientError::Pattern`]; [`ClientError::NothingIncluded`].
pub fn estimate(selection: &Selection, office: Templates, own: &Path) -> Result<Estimate> {
    if selection.folders.is_empty() {
        return Err(ClientError::NothingIncluded);
    }
    let included = selection.included_now(PointKind::Files, &Patterns::of(selection, office)?);
    let tree = SelectionTree::of(&included);
    let everything = Patterns::compile(&[])?;
    let unmounted = selection.unmounted();
    let view = View {
        tree: &tree,
        patterns: &everything,
        unmounted: &unmounted,
        own: path_bytes(own),
        reading: Reading::Files,
        stand_ins: StandIns::NONE,
        known: None,
        about_to_list: None,
        sees_all_programs: true,
    };
    let mut counting = Counting::new(selection, &included, office)?;
    view.look(&mut |seen| {
        counting.see(seen);
        ControlFlow::Continue(())
    })
    .map_err(ClientError::file("opening", "/"))?;
    Ok(counting.finish())
}

/// A folder on the way.
struct Frame {
    path: usize,
    /// Whether what is in it is included.
    whole: bool,
    /// The number of the rule that leaves out what is in it.
    excluded: Option<usize>,
    node: usize,
}

/// A folder or a large file, with what would be backed up of it.
struct Node {
    path: PathBuf,
    bytes: u64,
    children: Vec<usize>,
}

struct Counting {
    included: HashSet<Vec<u8>>,
    rules: Vec<Rule>,
    patterns: Patterns,
    path: Vec<u8>,
    frames: Vec<Frame>,
    nodes: Vec<Node>,
    /// Files with several names count once.
    links: HashSet<(u64, u64)>,
    by_rule: HashMap<usize, Amount>,
    found: Estimate,
}

impl Counting {
    fn new(selection: &Selection, included: &[Folder], office: Templates) -> Result<Self> {
        let mut rules = selection.rules(office);
        rules.push(cache_rule(selection));
        Ok(Self {
            included: included.iter().map(|folder| path_bytes(&folder.0).to_vec()).collect(),
            rules,
            patterns: Patterns::of(selection, office)?,
            path: Vec::new(),
            frames: vec![Frame { path: 0, whole: included.iter().any(|f| f.0.parent().is_none()), excluded: None, node: 0 }],
            nodes: vec![Node { path: PathBuf::from("/"), bytes: 0, children: Vec::new() }],
            links: HashSet::new(),
            by_rule: HashMap::new(),
            found: Estimate::default(),
        })
    }

    fn see(&mut self, seen: DirEntry) {
        match seen {
            DirEntry::Leaf(seen, EntryKind::File) => self.file(&seen),
            DirEntry::Folder(seen, Inside::Open(folder)) => self.enter(&seen, &folder),
            DirEntry::Folder(seen, Inside::OtherVolume) => {
                let (whole, excluded) = self.standing(&seen.name);
                if whole && excluded.is_none() {
                    self.found.other_volumes.push(self.at(&seen.name));
                }
            }
            DirEntry::Folder(_, Inside::Closed(_) | Inside::TooDeep) | DirEntry::Unseen(..) | DirEntry::Unfit(..) => {
                self.found.unreadable += 1;
            }
            DirEntry::Leave => {
                if let Some(frame) = self.frames.pop() {
                    self.path.truncate(frame.path);
                    let bytes = self.nodes[frame.node].bytes;
                    if let Some(above) = self.frames.last() {
                        self.nodes[above.node].bytes += bytes;
                    }
                }
            }
            // An estimate looks at everything.
            DirEntry::Leaf(..) | DirEntry::LeftOut | DirEntry::Folder(_, Inside::TakenOver) => {}
        }
    }

    /// Whether a name in the present folder is included, and by which rule it is left out.
    fn standing(&self, name: &[u8]) -> (bool, Option<usize>) {
        let frame = self.frames.last().expect("what is seen is in a folder");
        let path = [&self.path[..], b"/", name].concat();
        if self.included.contains(&path) {
            return (true, None);
        }
        let is_tag = name == CACHE_TAG && frame.excluded == Some(self.rules.len() - 1);
        match frame.excluded.filter(|_| !is_tag) {
            Some(rule) => (frame.whole, Some(rule)),
            None => (frame.whole, frame.whole.then(|| self.patterns.which(&path, name)).flatten()),
        }
    }

    fn at(&self, name: &[u8]) -> PathBuf {
        path_of(&[&self.path[..], b"/", name].concat())
    }

    fn file(&mut self, seen: &Seen) {
        let (whole, excluded) = self.standing(&seen.name);
        if !whole {
            return;
        }
        let bytes = content_of(&seen.metadata);
        if let Some(rule) = excluded {
            self.by_rule.entry(rule).or_default().add(bytes);
            self.found.excluded.add(bytes);
            return;
        }
        // A name that is left out does not count as one that was seen.
        if seen.metadata.links > 1 && !self.links.insert((seen.metadata.volume, seen.metadata.file)) {
            return;
        }
        self.found.included.add(bytes);
        let above = self.frames.last().expect("a file is in a folder").node;
        self.nodes[above].bytes += bytes;
        if bytes >= LARGE_FILE {
            self.add_node(above, &seen.name, bytes);
        }
    }

    fn enter(&mut self, seen: &Seen, folder: &Directory) {
        let (whole, mut excluded) = self.standing(&seen.name);
        let above = self.frames.last().expect("a folder is in another").node;
        let length = self.path.len();
        let node = if whole && excluded.is_none() { self.add_node(above, &seen.name, 0) } else { self.silent_node() };
        self.path.push(b'/');
        self.path.extend(&seen.name);
        let is_chosen = self.included.contains(&self.path);
        if whole && excluded.is_none() && !is_chosen && self.patterns.heeds_cache_tags() && is_tagged_cache(folder) {
            excluded = Some(self.rules.len() - 1);
        }
        self.frames.push(Frame { path: length, whole, excluded, node });
    }

    fn add_node(&mut self, above: usize, name: &[u8], bytes: u64) -> usize {
        let path = self.at(name);
        self.nodes.push(Node { path, bytes, children: Vec::new() });
        let node = self.nodes.len() - 1;
        self.nodes[above].children.push(node);
        node
    }

    /// A node that is nobody's child: of a folder that is not told.
    fn silent_node(&mut self) -> usize {
        self.nodes.push(Node { path: PathBuf::new(), bytes: 0, children: Vec::new() });
        self.nodes.len() - 1
    }

    fn finish(mut self) -> Estimate {
        self.found.largest = self.largest();
        let mut by_rule: Vec<(Rule, Amount)> =
            self.by_rule.into_iter().map(|(rule, amount)| (self.rules[rule].clone(), amount)).collect();
        by_rule.sort_by(|(a, x), (b, y)| y.bytes.cmp(&x.bytes).then_with(|| a.cmp(b)));
        self.found.by_rule = by_rule;
        self.found
    }

    /// The largest things, none of which lies in another: of a folder that holds little beside one thing, that thing.
    fn largest(&self) -> Vec<(PathBuf, u64)> {
        // An included folder itself says little: it begins with what is in it.
        let roots = self.nodes.iter().filter(|node| self.included.contains(path_bytes(&node.path)));
        let within = roots.flat_map(|root| &root.children).map(|child| (self.nodes[*child].bytes, *child));
        let mut heap: BinaryHeap<(u64, usize)> = within.collect();
        let mut largest = Vec::new();
        while let Some((bytes, n)) = heap.pop() {
            let node = &self.nodes[n];
            let biggest = node.children.iter().map(|child| self.nodes[*child].bytes).max().unwrap_or(0);
            if biggest as f64 > bytes as f64 * MOST_OF_IT {
                heap.extend(node.children.iter().map(|child| (self.nodes[*child].bytes, *child)));
            } else if bytes > 0 {
                largest.push((node.path.clone(), bytes));
                if largest.len() == LARGEST {
                    break;
                }
            }
        }
        largest
    }
}

fn cache_rule(selection: &Selection) -> Rule {
    let by_office = !selection.templates.contains(&Template::Caches);
    Rule { pattern: String::from_utf8_lossy(CACHE_TAG).into_owned(), template: Some(Template::Caches), by_office }
}

/// Bytes to read: holes are none.
fn content_of(metadata: &Metadata) -> u64 {
    // A small file may lie within its own description, where nothing is set aside for it.
    metadata.size.min(metadata.allocated.max(4096))
}

/// Why something is backed up, or is not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "because", rename_all = "snake_case")]
pub enum Why {
    /// It is in an included folder.
    Included {
        /// That folder.
        folder: PathBuf,
    },
    /// It is included as a disk.
    Disk,
    /// No included folder holds it.
    NotIncluded {
        /// Included folders within it.
        within: Vec<PathBuf>,
    },
    /// A rule leaves it out.
    Excluded {
        /// The rule.
        rule: Rule,
        /// What the rule matches: itself, or a folder that it is in.
        at: PathBuf,
    },
    /// It lies on another volume than the included folder.
    OtherVolume {
        /// Where that volume is mounted.
        mounted: PathBuf,
    },
    /// The volume of the included folder is not mounted.
    NotMounted {
        /// The included folder.
        folder: PathBuf,
    },
    /// The way to it leads over a symbolic link, which is backed up as a link.
    BehindLink {
        /// The link.
        link: PathBuf,
        /// What it leads to.
        real: PathBuf,
    },
    /// It is this program's own settings or keys.
    Own,
}

/// Says why a path is backed up, or is not.
///
/// # Errors
/// [`ClientError::Folder`] when it cannot be made absolute; [`ClientError::Pattern`].
pub fn why(selection: &Selection, office: Templates, own: &Path, path: &Path) -> Result<Why> {
    let path = std::path::absolute(path)
        .map_err(|_| ClientError::Folder { path: path.into(), why: "the path cannot be made absolute" })?;
    if selection.disks.iter().any(|disk| disk.0 == path) {
        return Ok(Why::Disk);
    }
    if path.starts_with(own) {
        return Ok(Why::Own);
    }
    // Of folders within each other the innermost counts: what somebody named is not left out by a pattern.
    let included = selection.included_now(PointKind::Files, &Patterns::of(selection, office)?);
    let holding = included.iter().filter(|folder| path.starts_with(&folder.0)).max_by_key(|folder| folder.0.as_os_str().len());
    let Some(folder) = holding.map(|folder| folder.0.clone()) else {
        let within = selection.folders.iter().map(|folder| folder.0.clone()).filter(|folder| folder.starts_with(&path)).collect();
        return Ok(Why::NotIncluded { within });
    };
    if selection.unmounted().contains(&path_bytes(&folder).to_vec()) {
        return Ok(Why::NotMounted { folder });
    }
    on_the_way(selection, office, &folder, &path)
}

/// What is between an included folder and something in it.
fn on_the_way(selection: &Selection, office: Templates, folder: &Path, path: &Path) -> Result<Why> {
    let (patterns, rules) = (Patterns::of(selection, office)?, selection.rules(office));
    let volume = System::metadata_behind(folder).ok().map(|found| found.volume);
    let mut in_tagged: Option<PathBuf> = None;
    let mut at = folder.to_path_buf();
    let below: BTreeMap<usize, _> =
        path.strip_prefix(folder).map(|rest| rest.components().enumerate().collect()).unwrap_or_default();
    for (n, component) in &below {
        let name = name_bytes(component.as_os_str()).to_vec();
        at.push(component);
        if let Some(tagged) = in_tagged.take().filter(|_| name != CACHE_TAG) {
            return Ok(Why::Excluded { rule: cache_rule(selection), at: tagged });
        }
        if let Some(rule) = patterns.which(path_bytes(&at), &name) {
            return Ok(Why::Excluded { rule: rules[rule].clone(), at });
        }
        // What is not there cannot be looked at; the rules hold for it all the same.
        let Ok(found) = System::metadata_of(&at) else { continue };
        if found.kind == Some(FileKind::Symlink) && n + 1 < below.len() {
            let real = std::fs::canonicalize(&at).unwrap_or_else(|_| at.clone());
            return Ok(Why::BehindLink { link: at, real });
        }
        if found.kind == Some(FileKind::Directory) {
            if volume.is_some_and(|volume| volume != found.volume) {
                return Ok(Why::OtherVolume { mounted: at });
            }
            if patterns.heeds_cache_tags() && is_tagged_at(&at) {
                in_tagged = Some(at.clone());
            }
        }
    }
    Ok(Why::Included { folder: folder.to_path_buf() })
}

fn is_tagged_at(path: &Path) -> bool {
    Directory::at(path).is_ok_and(|directory| is_tagged_cache(&directory))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use jetfrost_platform::make_link;

    use super::*;
    use crate::exclusion::CACHE_TAG_SIGNATURE;

    /// A home with letters, a project, a tagged cache, and a link.
    fn home() -> (tempfile::TempDir, PathBuf) {
        let directory = tempfile::tempdir().expect("a directory");
        let home = directory.path().canonicalize().expect("there").join("tove");
        for (path, bytes) in [
            ("Letters/a.odt", 1_000),
            ("Letters/b.tmp", 2_000),
            ("map/node_modules/left/index.js", 30_000),
            ("map/plan.txt", 4_000),
            ("tiles/one.png", 50_000),
            ("tiles/kept/two.png", 6_000),
            ("Photos/large.raw", 20 << 20),
        ] {
            let path = home.join(path);
            fs::create_dir_all(path.parent().expect("a folder")).expect("made");
            fs::write(path, vec![7; bytes]).expect("written");
        }
        fs::write(home.join("tiles/CACHEDIR.TAG"), [CACHE_TAG_SIGNATURE, &b"\n"[..]].concat()).expect("written");
        make_link(Path::new("Letters"), &home.join("old")).expect("made");
        (directory, home)
    }

    fn selection(home: &Path) -> Selection {
        let mut selection = Selection::default();
        selection.include(home).expect("included");
        selection.exclude("*.tmp").expect("a pattern");
        selection.exclude_by(Template::Caches);
        selection.exclude_by(Template::BuildOutputs);
        selection
    }

    #[test]
    fn an_estimate_counts_what_is_backed_up_and_what_each_rule_saves() {
        let (_directory, home) = home();
        let mut selection = selection(&home);
        selection.include(&home.join("tiles/kept")).expect("included");
        let found = estimate(&selection, Templates::NONE, Path::new("/nowhere")).expect("looked at");
        let tag = CACHE_TAG_SIGNATURE.len() as u64 + 1;
        assert_eq!(found.included, Amount { files: 5, bytes: 1_000 + 4_000 + 6_000 + (20 << 20) + tag });
        let saved: Vec<(&str, u64)> = found.by_rule.iter().map(|(rule, amount)| (rule.pattern.as_str(), amount.bytes)).collect();
        assert_eq!(saved, [("CACHEDIR.TAG", 50_000), ("node_modules", 30_000), ("*.tmp", 2_000)]);
        assert_eq!(found.excluded, Amount { files: 3, bytes: 82_000 });
        assert_eq!(found.largest[0], (home.join("Photos/large.raw"), 20 << 20), "not the folder that holds nothing else");
        assert!(found.largest.contains(&(home.join("map"), 4_000)), "{:?}", found.largest);
    }

    #[test]
    fn a_file_with_a_name_that_is_left_out_counts_by_its_other_name_and_once() {
        let (_directory, home) = home();
        for name in ["map/plan-again.js", "tiles-again.js"] {
            fs::hard_link(home.join("map/node_modules/left/index.js"), home.join(name)).expect("linked");
        }
        let before = Amount { files: 4, bytes: 1_000 + 4_000 + (20 << 20) + CACHE_TAG_SIGNATURE.len() as u64 + 1 };
        let found = estimate(&selection(&home), Templates::NONE, Path::new("/nowhere")).expect("looked at").included;
        assert_eq!(found, Amount { files: before.files + 1, bytes: before.bytes + 30_000 });
    }

    #[test]
    fn an_estimate_is_what_the_walk_takes() {
        let (_directory, home) = home();
        let selection = selection(&home);
        let (tree, patterns) =
            (SelectionTree::of(&selection.folders), Patterns::of(&selection, Templates::NONE).expect("they compile"));
        let view = View {
            tree: &tree,
            patterns: &patterns,
            unmounted: &[],
            own: b"/nowhere",
            reading: Reading::Files,
            stand_ins: StandIns::NONE,
            known: None,
            about_to_list: None,
            sees_all_programs: true,
        };
        let mut walked = Amount::default();
        view.look(&mut |seen| {
            if let DirEntry::Leaf(seen, EntryKind::File) = seen {
                walked.add(seen.metadata.size);
            }
            ControlFlow::Continue(())
        })
        .expect("looked at");
        assert_eq!(estimate(&selection, Templates::NONE, Path::new("/nowhere")).expect("looked at").included, walked);
    }

    #[test]
    fn each_path_says_why_it_is_backed_up_or_not_also_one_that_is_not_there() {
        let (_directory, home) = home();
        let selection = selection(&home);
        let why = |path: &Path| why(&selection, Templates::NONE, &home.join("own"), path).expect("a path");
        let excluded = |pattern: &str, template, at: &str| Why::Excluded {
            rule: Rule { pattern: pattern.into(), template, by_office: false },
            at: home.join(at),
        };
        assert_eq!(why(&home.join("Letters/a.odt")), Why::Included { folder: home.clone() });
        assert_eq!(why(&home.join("Letters/c.tmp")), excluded("*.tmp", None, "Letters/c.tmp"));
        assert_eq!(
            why(&home.join("map/node_modules/left/index.js")),
            excluded("node_modules", Some(Template::BuildOutputs), "map/node_modules")
        );
        assert_eq!(why(&home.join("tiles/one.png")), excluded("CACHEDIR.TAG", Some(Template::Caches), "tiles"));
        assert_eq!(why(&home.join("tiles/CACHEDIR.TAG")), Why::Included { folder: home.clone() });
        assert_eq!(why(&home.join("old/a.odt")), Why::BehindLink { link: home.join("old"), real: home.join("Letters") });
        assert_eq!(why(&home.join("old")), Why::Included { folder: home.clone() }, "the link itself");
        assert_eq!(why(&home.join("own/keys")), Why::Own);
        assert_eq!(why(Path::new("/")), Why::NotIncluded { within: vec![home.clone()] });
        assert_eq!(why(Path::new("/etc/hosts")), Why::NotIncluded { within: Vec::new() });
    }

    #[test]
    fn what_somebody_named_within_an_excluded_folder_is_backed_up() {
        let (_directory, home) = home();
        let mut selection = selection(&home);
        selection.include(&home.join("map/node_modules/left")).expect("included");
        let why = why(&selection, Templates::NONE, Path::new("/nowhere"), &home.join("map/node_modules/left/index.js"))
            .expect("a path");
        assert_eq!(why, Why::Included { folder: home.join("map/node_modules/left") });
        let found = estimate(&selection, Templates::NONE, Path::new("/nowhere")).expect("looked at");
        assert!(found.by_rule.iter().all(|(rule, _)| rule.pattern != "node_modules"), "{:?}", found.by_rule);
    }

    #[test]
    fn what_the_office_excludes_is_told_as_the_offices_unless_the_selection_does_so_itself() {
        let (_directory, home) = home();
        let mut selection = Selection::default();
        selection.include(&home).expect("included");
        let office: Templates = [Template::BuildOutputs, Template::Caches].into_iter().collect();
        let by_office = |selection: &Selection, path: &str| match why(selection, office, Path::new("/nowhere"), &home.join(path))
            .expect("a path")
        {
            Why::Excluded { rule, .. } => Some(rule.by_office),
            _ => None,
        };
        assert_eq!(by_office(&selection, "map/node_modules/left/index.js"), Some(true));
        assert_eq!(by_office(&selection, "tiles/one.png"), Some(true));
        let saved = estimate(&selection, office, Path::new("/nowhere")).expect("looked at").excluded.bytes;
        assert_eq!(saved, 30_000 + 50_000 + 6_000);
        selection.exclude_by(Template::BuildOutputs);
        assert_eq!(by_office(&selection, "map/node_modules/left/index.js"), Some(false));
        selection.include(&home.join("tiles/one.png")).expect("included");
        assert_eq!(by_office(&selection, "tiles/one.png"), None, "what somebody named is backed up all the same");
    }
}
