//! Searching a catalogue.

use std::collections::{BTreeSet, HashMap};
use std::thread;

use jetfrost_image::format::EntryKind;
use regex::bytes::{Regex, RegexBuilder};

use super::blocks::{Fact, Folders, Names};
use super::file::{Block, CatalogueFile};
use super::glob::compile;
use super::update::facts_of;
use crate::error::ClientError;

/// More threads than this gain nothing.
const MOST_THREADS: usize = 4;

/// What is searched for.
#[derive(Debug, Clone)]
pub struct Pattern {
    name: NamePattern,
    /// Of the folder that it is in.
    folder: Option<Regex>,
}

#[derive(Debug, Clone)]
enum NamePattern {
    /// A part of the name.
    Part(Regex),
    /// The whole name; and parts that every such name has, the longest first, by which others are passed over more quickly.
    Whole(Regex, Vec<Regex>),
    /// Any name.
    Any,
}

impl std::str::FromStr for Pattern {
    type Err = ClientError;

    /// A part of a name, or with `*`, `?`, `[…]` or `{…}` the whole name; before a `/` the folder that it is in, or several.
    fn from_str(text: &str) -> Result<Self, ClientError> {
        let refused = |why: String| ClientError::Pattern { pattern: text.into(), why };
        let glob = |pattern: &str| compile(pattern).map_err(refused);
        let part = |part: &str| {
            let part = RegexBuilder::new(&regex::escape(part)).case_insensitive(true).build();
            part.map_err(|error| refused(error.to_string()))
        };
        let (folder, name) = text.rsplit_once('/').map_or((None, text), |(folder, name)| (Some(folder), name));
        let name = match name {
            "" if folder.is_none() => return Err(refused("it is empty".into())),
            "" | "*" => NamePattern::Any,
            pattern if pattern.contains(['*', '?', '[', '{']) => {
                NamePattern::Whole(glob(pattern)?, parts_of(pattern).into_iter().map(part).collect::<Result<_, _>>()?)
            }
            name => NamePattern::Part(part(name)?),
        };
        let folder = match folder {
            None => None,
            Some(absolute) if absolute.is_empty() || absolute.starts_with('/') => Some(glob(absolute)?),
            Some(relative) => Some(glob(&format!("**/{relative}"))?),
        };
        Ok(Self { name, folder })
    }
}

impl Pattern {
    /// Which names match, in a folder that matches.
    fn matches(&self, names: &Names, is_wanted: impl Fn(u32) -> bool) -> Vec<usize> {
        let folders = names.folders();
        match &self.name {
            NamePattern::Any => (0..names.len()).filter(|at| is_wanted(folders[*at])).collect(),
            NamePattern::Whole(glob, parts) => {
                let mut found = parts.first().map_or_else(|| (0..names.len()).collect(), |part| with_part(names, part));
                let has_others = |name: &[u8]| parts.iter().skip(1).all(|part| part.is_match(name));
                found.retain(|at| {
                    let name = names.name(*at);
                    is_wanted(folders[*at]) && has_others(name) && glob.is_match(name)
                });
                found
            }
            NamePattern::Part(part) => {
                let mut found = with_part(names, part);
                found.retain(|at| is_wanted(folders[*at]));
                found
            }
        }
    }
}

/// Which names have a part. None has what ends a name, so it is found in all of them at once.
fn with_part(names: &Names, part: &Regex) -> Vec<usize> {
    let mut found: Vec<usize> = part.find_iter(names.text()).map(|found| names.at_byte(found.start())).collect();
    found.dedup();
    found
}

/// The parts of a pattern that stand in it as they are in every name, the longest first; none where that cannot be told easily.
fn parts_of(pattern: &str) -> Vec<&str> {
    let is_easy = !pattern.contains(['[', '{']);
    let mut parts: Vec<&str> = pattern.split(['*', '?']).filter(|part| is_easy && !part.is_empty()).collect();
    parts.sort_by_key(|part| std::cmp::Reverse(part.len()));
    parts
}

/// A state of something, and the points that have it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundVersion {
    /// What it was.
    pub kind: EntryKind,
    /// Bytes of a file.
    pub len: u64,
    /// When its content changed last, in seconds since 1970.
    pub modified: i64,
    /// The points, latest first.
    pub points: Vec<u64>,
}

/// A path that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The path.
    pub path: Vec<u8>,
    /// Its states in the points that there are, latest first. A folder has one.
    pub versions: Vec<FoundVersion>,
}

impl Found {
    /// The latest point that has it.
    #[must_use]
    pub fn latest(&self) -> u64 {
        self.versions.first().and_then(|version| version.points.first()).copied().unwrap_or_default()
    }
}

/// What matches in the points that there are, by path. None when the catalogue is not what was written.
pub(super) fn search(file: &CatalogueFile, folders: &Folders, pattern: &Pattern, live: &BTreeSet<u64>) -> Option<Vec<Found>> {
    let wanted: Option<Vec<bool>> = pattern.folder.as_ref().map(|glob| {
        let numbers = 0..u32::try_from(folders.len()).unwrap_or(u32::MAX);
        numbers.map(|folder| glob.is_match(&folders.path(folder))).collect()
    });
    let is_wanted = |folder: u32| wanted.as_ref().is_none_or(|wanted| wanted.get(folder as usize) == Some(&true));
    let blocks = &file.head.blocks;
    let threads = thread::available_parallelism().map_or(1, usize::from).min(MOST_THREADS);
    let parts: Vec<&[Block]> = blocks.chunks(blocks.len().div_ceil(threads).max(1)).collect();
    let found = thread::scope(|scope| {
        let search = |part| scope.spawn(move || search_blocks(file, part, pattern, &is_wanted));
        let searching: Vec<_> = parts.into_iter().map(search).collect();
        searching.into_iter().map(|thread| thread.join().ok().flatten()).collect::<Option<Vec<_>>>()
    })?;
    let mut by_name = HashMap::<(u32, Vec<u8>), Vec<Fact>>::new();
    for (folder, name, fact) in found.into_iter().flatten() {
        by_name.entry((folder, name)).or_default().push(fact);
    }
    let found = by_name.into_iter().filter_map(|((folder, name), facts)| {
        ((folder as usize) < folders.len()).then_some(())?;
        let versions = versions(&facts, live);
        (!versions.is_empty()).then(|| Found { path: [&folders.path(folder)[..], b"/", &name].concat(), versions })
    });
    let mut found: Vec<Found> = found.collect();
    found.sort_by(|one, other| one.path.cmp(&other.path));
    Some(found)
}

/// What matches in some blocks, in order.
fn search_blocks(
    file: &CatalogueFile,
    blocks: &[Block],
    pattern: &Pattern,
    is_wanted: &(impl Fn(u32) -> bool + Sync),
) -> Option<Vec<(u32, Vec<u8>, Fact)>> {
    let (mut opener, mut found) = (file.opener(), Vec::new());
    for block in blocks {
        let names = Names::from_bytes(&file.read(&block.names, &mut opener)?)?;
        let matching = pattern.matches(&names, is_wanted);
        if matching.is_empty() {
            continue;
        }
        let facts = facts_of(file, block, &mut opener).filter(|facts| facts.len() == names.len())?;
        found.extend(matching.into_iter().map(|at| (names.folders()[at], names.name(at).to_vec(), facts[at])));
    }
    Some(found)
}

/// The states that points have which there are, latest first.
fn versions(facts: &[Fact], live: &BTreeSet<u64>) -> Vec<FoundVersion> {
    let mut versions: Vec<FoundVersion> = Vec::new();
    for (at, fact) in facts.iter().enumerate() {
        let Some(kind) = fact.kind else { continue };
        let points: Vec<u64> = match facts.get(at + 1) {
            Some(next) => live.range(fact.point..next.point.max(fact.point)).copied().collect(),
            None => live.range(fact.point..).copied().collect(),
        };
        if points.is_empty() {
            continue;
        }
        match versions.last_mut() {
            // What is in a folder has states of its own.
            Some(before) if kind == EntryKind::Directory && before.kind == kind => {
                before.points.extend(points);
                before.modified = fact.modified;
            }
            _ => versions.push(FoundVersion { kind, len: fact.len, modified: fact.modified, points }),
        }
    }
    versions.reverse();
    versions.iter_mut().for_each(|version| version.points.reverse());
    versions
}
