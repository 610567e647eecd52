//! Catalogues held against what the points are.

use std::collections::{BTreeMap, BTreeSet};

use jetfrost_image::PointId;
use jetfrost_image::crypto::StoreKeys;
use jetfrost_image::format::{Content, Entry, EntryKind};
use jetfrost_image::tree::{ChunkSource, ListingWriter};
use proptest::collection::vec;
use proptest::prelude::*;

use super::file::CatalogueFile;
use super::file::lock;
use super::folders_of;
use super::search::{Found, Pattern, search};
use super::update::{Failed, Listings, Update};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::scan::testing::{Chunks, keys};

impl Listings for Chunks {
    fn fetch_ahead(&self, _: &[(u32, Content)]) -> Result<(), ClientError> {
        Ok(())
    }
}

/// Files by their paths, each with the number of its state.
type Files = BTreeMap<Vec<String>, u32>;

/// What is done to the files.
#[derive(Debug, Clone)]
enum Deed {
    Write(Vec<String>),
    Remove(Vec<String>),
}

fn deeds() -> impl Strategy<Value = Deed> {
    let name = prop::sample::select(vec!["a", "b", "Letters", "letter.odt", "plan.odt", "ünder"]).prop_map(str::to_owned);
    (vec(name, 1..4), any::<bool>()).prop_map(|(path, writes)| if writes { Deed::Write(path) } else { Deed::Remove(path) })
}

fn act(files: &mut Files, deed: &Deed, state: u32) {
    let (Deed::Write(path) | Deed::Remove(path)) = deed;
    let is_in_the_way = |other: &Vec<String>| other.starts_with(path) || path.starts_with(other);
    files.retain(|other, _| if matches!(deed, Deed::Write(_)) { !is_in_the_way(other) } else { !other.starts_with(path) });
    if matches!(deed, Deed::Write(_)) {
        files.insert(path.clone(), state);
    }
}

/// Writes the listing of a folder, and of those below.
fn listing(keys: &StoreKeys, chunks: &mut Chunks, files: &Files, folder: &[String]) -> Content {
    let below = files.iter().filter(|(path, _)| path.starts_with(folder) && path.len() > folder.len());
    let names: BTreeMap<&String, (&Vec<String>, u32)> =
        below.map(|(path, state)| (&path[folder.len()], (path, *state))).collect();
    let mut writer = ListingWriter::default();
    for (name, (path, state)) in names {
        let is_file = path.len() == folder.len() + 1;
        let mut entry = Entry::new(name.as_bytes().to_vec(), if is_file { EntryKind::File } else { EntryKind::Directory });
        entry.mtime = state.into();
        entry.content = Some(if is_file {
            Content::empty()
        } else {
            entry.mtime = 0;
            listing(keys, chunks, files, &path[..=folder.len()])
        });
        writer.push(keys, chunks, &entry).expect("taken");
    }
    writer.finish(keys, chunks).expect("written")
}

const ID: PointId = PointId([7; 16]);

/// A catalogue of points whose files are known.
struct Setup {
    directory: tempfile::TempDir,
    keys: StoreKeys,
    chunks: Chunks,
    points: BTreeMap<u64, Files>,
}

impl Setup {
    fn new() -> Self {
        let directory = tempfile::tempdir().expect("a directory");
        drop(lock(directory.path()).expect("made"));
        Self { directory, keys: keys(), chunks: Chunks::default(), points: BTreeMap::new() }
    }

    fn file(&self) -> CatalogueFile {
        let at = self.directory.path();
        CatalogueFile::open(at, &self.keys).unwrap_or_else(|| CatalogueFile::begin(at, &self.keys).expect("begun"))
    }

    /// Takes in points; those that are no more are forgotten.
    fn take_in(&mut self, points: &[(u64, Files)]) -> Result<CatalogueFile, Failed> {
        let mut update = Update::of(self.file());
        for (sequence, files) in points {
            let root = listing(&self.keys, &mut self.chunks, files, &[]);
            update.take_in(&self.chunks, (*sequence, ID), &root, &Meter::default())?;
            self.points.insert(*sequence, files.clone());
        }
        update.finish(&self.points.keys().copied().collect())
    }

    fn search(&self, pattern: &str) -> Vec<Found> {
        let file = CatalogueFile::open(self.directory.path(), &self.keys).expect("kept");
        let folders = folders_of(&file, &mut file.opener()).expect("sound");
        let live = self.points.keys().copied().collect();
        search(&file, &folders, &pattern.parse().expect("a pattern"), &live).expect("sound")
    }

    /// Which points have which state of each file, by what the points are.
    fn truth(&self) -> BTreeMap<Vec<u8>, BTreeSet<(u64, u32)>> {
        let mut all = BTreeMap::<Vec<u8>, BTreeSet<(u64, u32)>>::new();
        for (sequence, files) in &self.points {
            for (path, state) in files {
                all.entry(format!("/{}", path.join("/")).into_bytes()).or_default().insert((*sequence, *state));
            }
        }
        all
    }

    /// The same, by the catalogue.
    fn told(&self) -> BTreeMap<Vec<u8>, BTreeSet<(u64, u32)>> {
        let mut all = BTreeMap::<Vec<u8>, BTreeSet<(u64, u32)>>::new();
        for found in self.search("*") {
            for version in found.versions.iter().filter(|version| version.kind == EntryKind::File) {
                let state = u32::try_from(version.modified).expect("a state");
                let points = version.points.iter().map(|point| (*point, state));
                all.entry(found.path.clone()).or_default().extend(points);
            }
        }
        all
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// However many points come at once, and whichever go: also when the catalogue is put together anew, which comes of many updates.
    #[test]
    fn a_catalogue_tells_of_each_file_in_which_points_it_was(
        rounds in vec((vec(vec(deeds(), 0..4), 1..4), vec(any::<prop::sample::Index>(), 0..3)), 1..90),
    ) {
        let (mut setup, mut files, mut sequence) = (Setup::new(), Files::new(), 0);
        for (points, removed) in rounds {
            let mut taken = Vec::new();
            for deeds in points {
                sequence += 1;
                let state = u32::try_from(sequence).expect("few");
                deeds.iter().for_each(|deed| act(&mut files, deed, state));
                taken.push((sequence, files.clone()));
            }
            let removed: Vec<u64> = removed.iter().filter_map(|index| {
                let there: Vec<u64> = setup.points.keys().copied().collect();
                (!there.is_empty()).then(|| there[index.index(there.len())])
            }).collect();
            removed.iter().for_each(|gone| drop(setup.points.remove(gone)));
            setup.take_in(&taken).expect("taken in");
            prop_assert_eq!(setup.told(), setup.truth());
        }
    }
}

/// Else what went with its points would stay for ever.
#[test]
fn what_is_only_of_points_that_are_no_more_goes_in_the_end() {
    let mut setup = Setup::new();
    let mut blocks = Vec::new();
    for sequence in 1..=200_u64 {
        setup.points.remove(&(sequence.saturating_sub(5)));
        let mut files = files(&["always", "dropped/one"]);
        files.insert(vec![format!("only in {sequence}")], 1);
        let file = setup.take_in(&[(sequence, files)]).expect("taken in");
        blocks.push(file.head.blocks.len());
        assert_eq!(setup.told(), setup.truth());
    }
    assert!(blocks.iter().all(|blocks| *blocks < 70), "{blocks:?}");
    let file = setup.file();
    assert!(file.head.names() < 200 && file.head.points.len() == 5, "{}", file.head.names());
}

fn files(paths: &[&str]) -> Files {
    paths.iter().map(|path| (path.split('/').map(str::to_owned).collect(), 1)).collect()
}

#[test]
fn names_are_found_by_a_part_a_pattern_or_the_folder() {
    let mut setup = Setup::new();
    let names =
        ["home/aud/Letters/Merger.odt", "home/aud/letters.txt", "home/tove/letters/merger-2.odt", "srv/Überblick.pdf", "top"];
    setup.take_in(&[(1, files(&names))]).expect("taken in");
    let found = |pattern: &str| {
        let found = setup.search(pattern);
        found.into_iter().map(|found| String::from_utf8(found.path).expect("text")).collect::<Vec<_>>()
    };
    let (letters, more) = ("/home/aud/Letters/Merger.odt", "/home/tove/letters/merger-2.odt");
    assert_eq!(found("merger"), [letters, more]);
    assert_eq!(found("merger.odt"), [letters]);
    assert_eq!(found("*.odt"), [letters, more]);
    assert_eq!(found("merger"), found("MERGER"));
    assert_eq!(found("überblick"), ["/srv/Überblick.pdf"]);
    assert_eq!(found("LETTERS"), ["/home/aud/Letters", "/home/aud/letters.txt", "/home/tove/letters"]);
    assert_eq!(found("aud/letters/*.odt"), [letters]);
    assert_eq!(found("letters/merger"), [letters, more]);
    assert_eq!(found("/home/*/letters/"), [letters, more]);
    assert_eq!(found("/t"), ["/top"]);
    assert_eq!(found("merger-?.odt"), [more]);
    assert_eq!(found("*M*r*ODT"), [letters, more]);
    assert_eq!(found("merger{.,-2.}odt"), [letters, more]);
    assert_eq!(found("[mM]erger.odt"), [letters]);
    assert_eq!(found("über*"), ["/srv/Überblick.pdf"]);
    assert_eq!(found("letters?txt"), ["/home/aud/letters.txt"]);
    assert_eq!(found("tt.rs"), Vec::<String>::new());
    // A part that would be one across two names is none.
    assert_eq!(found("odtletters"), Vec::<String>::new());
    for refused in ["", "[", "a{b/x"] {
        assert!(matches!(refused.parse::<Pattern>(), Err(ClientError::Pattern { .. })), "{refused}");
    }
}

#[test]
fn of_a_folder_whose_listing_is_damaged_nothing_is_taken_to_be_gone() {
    let mut setup = Setup::new();
    setup.take_in(&[(1, files(&["a/one", "a/two", "b/three"]))]).expect("taken in");
    let root = listing(&setup.keys, &mut setup.chunks, &files(&["a/four", "b/three"]), &[]);
    let folder = listing(&setup.keys, &mut Chunks::default(), &files(&["four"]), &[]);
    setup.chunks.0.remove(&folder.parts[0].name.expect("a page"));
    assert!(setup.chunks.get(&folder.parts[0].name.expect("a page")).is_err());
    let mut update = Update::of(setup.file());
    update.take_in(&setup.chunks, (2, ID), &root, &Meter::default()).expect("taken in");
    setup.points.insert(2, Files::new());
    let file = update.finish(&BTreeSet::from([1, 2])).expect("kept");
    assert_eq!(file.head.points.iter().map(|point| point.unread).collect::<Vec<_>>(), [0, 1]);
    let one = &setup.search("one")[0];
    assert_eq!(one.versions[0].points, [2, 1]);
}

/// A machine with a million files backs up every hour; mostly nothing changed.
#[test]
fn of_a_point_in_which_nothing_changed_nothing_of_the_catalogue_is_read() {
    let mut setup = Setup::new();
    let file = setup.take_in(&[(1, files(&["a/one"]))]).expect("taken in");
    setup.chunks.0.clear();
    let log = std::fs::read_dir(setup.directory.path()).expect("listed").map(|entry| entry.expect("an entry").path());
    let log = log.into_iter().find(|path| path.to_string_lossy().contains("names-")).expect("there");
    std::fs::write(&log, vec![0; usize::try_from(file.len()).expect("small")]).expect("written");
    assert_eq!(setup.take_in(&[(2, files(&["a/one"]))]).expect("taken in").head.points.len(), 2);
    // Else it would have been found out.
    assert!(matches!(setup.take_in(&[(3, files(&["a/two"]))]), Err(Failed::Unreadable)));
}

#[test]
fn one_that_was_stopped_leaves_the_catalogue_as_it_was() {
    let mut setup = Setup::new();
    setup.take_in(&[(1, files(&["a/one"]))]).expect("taken in");
    let meter = Meter::default();
    meter.stop();
    let mut update = Update::of(setup.file());
    let root = listing(&setup.keys, &mut setup.chunks, &files(&["a/two"]), &[]);
    let stopped = update.take_in(&setup.chunks, (2, ID), &root, &meter);
    assert!(matches!(stopped, Err(Failed::For(ClientError::Stopped))));
    drop(update);
    assert_eq!(setup.told(), setup.truth());
    setup.take_in(&[(2, files(&["a/two"]))]).expect("taken in");
    assert_eq!(setup.told(), setup.truth());
}
