//! How the present walk differs from the one before, in counts: what a point tells of itself, so that one that holds what an incident left can be
//! told from one that holds a day's work. Files are paired by their number, their content and their name; what they are called stays here.

use std::collections::HashMap;
use std::hash::Hash;

use jetfrost_image::format::{EntryKind, EntryPage};
use jetfrost_types::Changes;

use super::change_cache::Remembered;
use super::form::Form;
use crate::same_content::number_of;

/// Files of one side that are paired one by one; about 60 bytes each.
const MOST_PAIRED: usize = 250_000;
/// A file that did not change for so long is an old one, in seconds.
const OLD: i64 = 30 * 24 * 3600;

/// A file of one of the two walks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct FileSeen {
    /// Device and number, if they are known.
    id: Option<(u64, u64)>,
    bytes: u64,
    form: Form,
    /// Tells contents apart; none of an empty file.
    content: Option<u64>,
    /// Tells names apart, up to the first dot.
    stem: u64,
    /// Tells the endings of names apart.
    ending: u64,
    is_old: bool,
}

impl FileSeen {
    /// What was remembered of `name`, if it is a file. `now` in seconds since 1970.
    pub(crate) fn of(name: &[u8], remembered: &Remembered, now: i64) -> Option<Self> {
        // What cannot be read is no memory of a file.
        let entries = EntryPage::read(&remembered.entry).ok()?;
        let entry = entries.iter().find(|entry| entry.kind == EntryKind::File)?;
        let (stem, ending) = parts_of(name);
        Some(Self {
            id: Some((remembered.stamp.device, remembered.stamp.inode)).filter(|id| *id != (0, 0)),
            bytes: remembered.bytes,
            form: remembered.form,
            content: entry.content.as_ref().filter(|content| content.len > 0).map(number_of),
            stem: hash(stem),
            ending: hash(ending),
            is_old: now.saturating_sub(entry.mtime) >= OLD,
        })
    }

    /// Whether somebody made content unrecognisable from one to the other.
    fn is_scrambled_in(&self, after: &Self) -> bool {
        self.form.is_recognisable() && after.form.is_featureless()
    }
}

/// A name up to its first dot, and from its last one on. A dot in front belongs to the name.
fn parts_of(name: &[u8]) -> (&[u8], &[u8]) {
    let rest = name.get(1..).unwrap_or_default();
    match (rest.iter().position(|byte| *byte == b'.'), rest.iter().rposition(|byte| *byte == b'.')) {
        (Some(first), Some(last)) => (&name[..=first], &rest[last..]),
        _ => (name, b""),
    }
}

fn hash(bytes: &[u8]) -> u64 {
    u64::from_le_bytes(*blake3::hash(bytes).as_bytes().first_chunk().expect("it has 32"))
}

/// Files that are only in one of the two walks, as far as they are paired.
#[derive(Debug, Default)]
pub(crate) struct Unpaired {
    files: Vec<FileSeen>,
    /// The others.
    beyond: Tally,
}

impl Unpaired {
    pub(crate) fn push(&mut self, file: FileSeen) {
        if self.files.len() < MOST_PAIRED { self.files.push(file) } else { self.beyond.add(&file) }
    }
}

/// Files that are counted.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    files: u64,
    bytes: u64,
    old: u64,
    old_bytes: u64,
    recognisable: u64,
    recognisable_bytes: u64,
    featureless: u64,
    featureless_bytes: u64,
}

impl Tally {
    fn add(&mut self, file: &FileSeen) {
        let counts = [
            (true, &mut self.files, &mut self.bytes),
            (file.is_old, &mut self.old, &mut self.old_bytes),
            (file.form.is_recognisable(), &mut self.recognisable, &mut self.recognisable_bytes),
            (file.form.is_featureless(), &mut self.featureless, &mut self.featureless_bytes),
        ];
        for (_, files, bytes) in counts.into_iter().filter(|(is_so, ..)| *is_so) {
            *files += 1;
            *bytes += file.bytes;
        }
    }

    fn of(files: &[FileSeen]) -> Self {
        let mut tally = Self::default();
        files.iter().for_each(|file| tally.add(file));
        tally
    }
}

/// The differences in the making.
#[derive(Debug, Default)]
pub(crate) struct ChangeProfile {
    changes: Changes,
    new: Unpaired,
    /// Names that were of a file and are of something else now.
    gone: Unpaired,
    /// How many files changed to each ending.
    relabelled: HashMap<u64, u64>,
}

impl ChangeProfile {
    /// A name, as it was and as it is.
    pub(crate) fn compare(&mut self, before: Option<FileSeen>, after: Option<FileSeen>) {
        match (before, after) {
            (Some(before), Some(after)) if before.content != after.content => self.changed(&before, &after),
            (None, Some(after)) => self.new.push(after),
            (Some(before), None) => self.gone.push(before),
            _ => {}
        }
    }

    fn changed(&mut self, before: &FileSeen, after: &FileSeen) {
        self.changes.changed += 1;
        self.changes.changed_bytes += after.bytes;
        if before.is_scrambled_in(after) {
            self.changes.scrambled += 1;
            self.changes.scrambled_bytes += after.bytes;
        }
        if before.ending != after.ending && !after.form.is_recognisable() {
            *self.relabelled.entry(after.ending).or_default() += 1;
        }
    }

    /// The counts, with the files that the walk did not come to. What the point before held is not among them.
    pub(crate) fn finish(mut self, not_come_to: Unpaired) -> Changes {
        let mut gone = std::mem::take(&mut self.gone);
        not_come_to.files.into_iter().for_each(|file| gone.push(file));
        let mut beyond = sum(&gone.beyond, &not_come_to.beyond);
        let (mut gone, mut new) = (gone.files, std::mem::take(&mut self.new.files));
        for (old, now) in
            pairs(&mut gone, &mut new, |file| file.id).into_iter().chain(pairs(&mut gone, &mut new, |file| file.content))
        {
            if old.content == now.content {
                self.changes.renamed += 1;
            } else {
                self.changed(&old, &now);
            }
        }
        // A recognisable file beside a name that was lost is another one.
        let mut unknown: Vec<FileSeen> = new.extract_if(.., |file| !file.form.is_recognisable()).collect();
        for (old, now) in pairs(&mut gone, &mut unknown, |file| Some(file.stem)) {
            self.changed(&old, &now);
        }
        new.append(&mut unknown);
        // Of those that were too many to be paired, as many are taken for renamed as there are on both sides.
        let moved = beyond.files.min(self.new.beyond.files);
        self.changes.renamed += moved;
        beyond.old = beyond.old.saturating_sub(moved);
        if beyond.old == 0 {
            beyond.old_bytes = 0;
        }
        self.count(Tally::of(&gone), Tally::of(&new), &beyond, moved);
        self.changes
    }

    /// Counts what is in no pair.
    fn count(&mut self, gone: Tally, new: Tally, gone_beyond: &Tally, moved: u64) {
        let new_beyond = self.new.beyond;
        let changes = &mut self.changes;
        changes.gone = gone.files + gone_beyond.files - moved;
        changes.gone_bytes = gone.bytes + gone_beyond.bytes;
        changes.added = new.files + new_beyond.files - moved;
        changes.added_bytes = new.bytes + new_beyond.bytes;
        changes.old_gone = gone.old + gone_beyond.old;
        changes.old_gone_bytes = gone.old_bytes + gone_beyond.old_bytes;
        let (gone, new) = (sum(&gone, gone_beyond), sum(&new, &new_beyond));
        changes.scrambled += gone.recognisable.min(new.featureless);
        changes.scrambled_bytes += gone.recognisable_bytes.min(new.featureless_bytes);
        changes.relabelled = self.relabelled.values().copied().max().unwrap_or(0);
    }
}

fn sum(one: &Tally, other: &Tally) -> Tally {
    Tally {
        files: one.files + other.files,
        bytes: one.bytes + other.bytes,
        old: one.old + other.old,
        old_bytes: one.old_bytes + other.old_bytes,
        recognisable: one.recognisable + other.recognisable,
        recognisable_bytes: one.recognisable_bytes + other.recognisable_bytes,
        featureless: one.featureless + other.featureless,
        featureless_bytes: one.featureless_bytes + other.featureless_bytes,
    }
}

/// Takes out of both what has the same key, in pairs.
fn pairs<K: Hash + Eq>(
    gone: &mut Vec<FileSeen>,
    new: &mut Vec<FileSeen>,
    key: impl Fn(&FileSeen) -> Option<K>,
) -> Vec<(FileSeen, FileSeen)> {
    if gone.is_empty() || new.is_empty() {
        return Vec::new();
    }
    let mut by_key: HashMap<K, Vec<usize>> = HashMap::new();
    for (at, file) in new.iter().enumerate() {
        if let Some(key) = key(file) {
            by_key.entry(key).or_default().push(at);
        }
    }
    let (mut found, mut is_taken) = (Vec::new(), vec![false; new.len()]);
    gone.retain(|file| {
        let Some(at) = key(file).and_then(|key| by_key.get_mut(&key)?.pop()) else { return true };
        is_taken[at] = true;
        found.push((*file, new[at]));
        false
    });
    let mut is_taken = is_taken.into_iter();
    new.retain(|_| !is_taken.next().unwrap_or(false));
    found
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn file(name: &str, number: u64, content: u64, form: Form) -> FileSeen {
        let (stem, ending) = parts_of(name.as_bytes());
        FileSeen {
            id: Some((1, number)),
            bytes: 1_000,
            form,
            content: Some(content),
            stem: hash(stem),
            ending: hash(ending),
            is_old: true,
        }
    }

    fn unpaired(files: impl IntoIterator<Item = FileSeen>) -> Unpaired {
        let mut all = Unpaired::default();
        files.into_iter().for_each(|file| all.push(file));
        all
    }

    /// Files that are gone, and new ones.
    fn profile(gone: Vec<FileSeen>, new: Vec<FileSeen>) -> Changes {
        let mut profile = ChangeProfile::default();
        new.into_iter().for_each(|file| profile.compare(None, Some(file)));
        profile.finish(unpaired(gone))
    }

    fn number(
        n: u64,
        name: impl Fn(u64) -> String,
        form: Form,
        content: impl Fn(u64) -> u64,
        id: impl Fn(u64) -> u64,
    ) -> Vec<FileSeen> {
        (1..=n).map(|i| file(&name(i), id(i), content(i), form)).collect()
    }

    #[test]
    fn a_moved_folder_is_renamed_files_and_nothing_else() {
        let at = |_: u64| number(60, |i| format!("{i}.odt"), Form::Typed, |i| i, |i| i);
        let changes = profile(at(0), at(1));
        assert_eq!((changes.renamed, changes.gone, changes.added, changes.changed, changes.old_gone), (60, 0, 0, 0, 0));
        let copied = number(60, |i| format!("{i}.odt"), Form::Typed, |i| i, |i| i + 1_000);
        assert_eq!(profile(at(0), copied).renamed, 60, "to another volume, by copying");
    }

    #[test]
    fn encrypted_files_are_told_in_place_beside_and_under_any_name() {
        let before = || number(60, |i| format!("plan {i}.odt"), Form::Typed, |i| i, |i| i);
        let mut in_place = ChangeProfile::default();
        for (old, now) in before().into_iter().zip(number(60, |i| format!("plan {i}.odt"), Form::Random, |i| i + 500, |i| i)) {
            in_place.compare(Some(old), Some(now));
        }
        let in_place = in_place.finish(Unpaired::default());
        assert_eq!((in_place.changed, in_place.scrambled, in_place.relabelled), (60, 60, 0));
        assert_eq!(in_place.scrambled_bytes, 60_000);
        let another = |name: fn(u64) -> String, id: u64| number(60, name, Form::Random, |i| i + 500, move |i| i + id);
        let renamed = profile(before(), another(|i| format!("plan {i}.odt.x7"), 0));
        assert_eq!((renamed.changed, renamed.scrambled, renamed.relabelled, renamed.gone), (60, 60, 60, 0));
        let beside = profile(before(), another(|i| format!("plan {i}.odt.x7"), 700));
        assert_eq!((beside.changed, beside.scrambled, beside.relabelled, beside.gone), (60, 60, 60, 0));
        let any_name = profile(before(), another(|i| format!("{:x}", i * 7_919), 700));
        assert_eq!((any_name.changed, any_name.scrambled, any_name.gone, any_name.added), (0, 60, 60, 60));
    }

    #[test]
    fn new_random_files_are_scrambled_ones_only_where_as_many_recognisable_ones_went() {
        let random = number(60, |i| format!("{i:x}"), Form::Random, |i| i + 500, |i| i + 700);
        assert_eq!(profile(Vec::new(), random.clone()).scrambled, 0, "an encrypted archive that came");
        let two = number(2, |i| format!("{i}.odt"), Form::Typed, |i| i, |i| i);
        assert_eq!(profile(two, random).scrambled, 2);
    }

    #[test]
    fn a_conversion_of_pictures_is_neither_scrambled_nor_relabelled() {
        let before = number(60, |i| format!("{i}.bmp"), Form::Typed, |i| i, |i| i);
        let after = number(60, |i| format!("{i}.png"), Form::Typed, |i| i + 500, |i| i + 700);
        let changes = profile(before, after);
        assert_eq!((changes.gone, changes.added, changes.scrambled, changes.relabelled), (60, 60, 0, 0));
    }

    #[test]
    fn names_end_at_the_last_dot_and_begin_before_the_first() {
        let parts = |name: &str| {
            let (stem, ending) = parts_of(name.as_bytes());
            (String::from_utf8_lossy(stem).into_owned(), String::from_utf8_lossy(ending).into_owned())
        };
        let said = |stem: &str, ending: &str| (stem.to_owned(), ending.to_owned());
        assert_eq!(parts("report.tar.gz"), said("report", ".gz"));
        assert_eq!(parts(".profile"), said(".profile", ""));
        assert_eq!(parts(".config.old"), said(".config", ".old"));
        assert_eq!([parts("README"), parts("")], [said("README", ""), said("", "")]);
    }

    fn some() -> impl Strategy<Value = Vec<FileSeen>> {
        let forms =
            prop::sample::select(vec![Form::Unknown, Form::Typed, Form::Text, Form::Structured, Form::Random, Form::Blank]);
        let one = ("[a-c]\\.[xy]", 0_u64..8, 0_u64..8, forms);
        prop::collection::vec(one.prop_map(|(name, id, content, form)| file(&name, id, content, form)), 0..30)
    }

    proptest! {
        #[test]
        fn every_file_is_counted_once(gone in some(), new in some()) {
            let (n, m) = (gone.len() as u64, new.len() as u64);
            let changes = profile(gone, new);
            prop_assert_eq!(changes.gone + changes.renamed + changes.changed, n);
            prop_assert_eq!(changes.added + changes.renamed + changes.changed, m);
            prop_assert!(changes.scrambled <= n && changes.relabelled <= changes.changed && changes.old_gone <= changes.gone);
            prop_assert_eq!(changes.gone_bytes, changes.gone * 1_000);
        }

        #[test]
        fn nothing_differs_between_a_walk_and_itself(files in some()) {
            let mut profile = ChangeProfile::default();
            files.iter().for_each(|file| profile.compare(Some(*file), Some(*file)));
            prop_assert_eq!(profile.finish(Unpaired::default()), Changes::default());
        }
    }
}
