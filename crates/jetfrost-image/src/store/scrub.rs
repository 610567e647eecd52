//! Scrubbing: every stored byte against its check, and everything that is needed against what is there. No key is needed.
//!
//! A segment that is not sound is set aside, whole and unaltered, and what is sound in it is kept in a new one. From then
//! on the service says of its other chunks that they are missing, and the next run of the workstation brings those that
//! it still has.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{PoisonError, mpsc};
use std::{io, thread};

use super::compact::{GoOn, Headway, write_segment};
use super::needs::NeedsFiles;
use super::reader::sound_record;
use super::{MAX_SMALL, Result, Store, StoreError, layout, medium, numbers, segment_lengths};

use crate::format::{
    MAX_SEGMENT, RECORD_HEAD, RecordHead, SEGMENT_HEAD, SegmentBuilder, SegmentEntry, SegmentScanner, Slot, read_footer,
};
use crate::id::{ChunkName, SegmentHash};
use crate::medium::{StoredFile, read_whole};

/// Read at a time.
const PIECE: usize = 256 << 10;
/// Pieces that wait to be taken, so that neither side waits for the other at every one.
const WAITING: usize = 4;
/// Findings that are listed one by one.
const MOST_FINDINGS: usize = 1000;

/// What is wrong with a file of a store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wrong {
    /// Its bytes are not those that were written.
    Damaged(String),
    /// It should be there and is not.
    Missing,
    /// It is nothing that a store has.
    Alien,
}

/// Something that a scrub found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// The file within the store.
    pub path: String,
    /// What is wrong with it.
    pub wrong: Wrong,
}

/// What a scrub came to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Scrubbed {
    /// Segments read.
    pub segments: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What is wrong, a thousand findings at most.
    pub findings: Vec<Finding>,
    /// How many findings there are.
    pub found: u64,
}

impl Scrubbed {
    fn note(&mut self, path: impl Into<String>, wrong: Wrong) {
        self.found += 1;
        if self.findings.len() < MOST_FINDINGS {
            self.findings.push(Finding { path: path.into(), wrong });
        }
    }
}

/// Chunks that points need and that are not here.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Lost {
    /// How many.
    pub chunks: u64,
    /// Their names, as many as were asked for.
    pub names: Vec<ChunkName>,
    /// For each point that needs some of them, how many.
    pub points: BTreeMap<u64, u64>,
}

/// What a segment turned out to be.
enum Verdict {
    Sound,
    Damaged { why: String, sound: Vec<SegmentEntry> },
}

impl Store {
    /// Reads everything and compares it with its checks. `after` is where an interrupted scrub goes on; it is moved along.
    ///
    /// # Errors
    /// [`StoreError::Interrupted`]; [`StoreError::Medium`] when the medium fails to read, which says nothing of the bytes.
    pub fn scrub(&self, after: &mut Option<SegmentHash>, go_on: GoOn<'_>) -> Result<Scrubbed> {
        let mut scrubbed = Scrubbed::default();
        self.scrub_segments(after, go_on, &mut scrubbed)?;
        self.scrub_missing(&mut scrubbed)?;
        self.scrub_small(&mut scrubbed)?;
        self.scrub_aliens(&mut scrubbed)?;
        *after = None;
        Ok(scrubbed)
    }

    /// What points need and is not here.
    ///
    /// # Errors
    /// [`StoreError::Needs`] and [`StoreError::Format`] when what points need is damaged itself; [`StoreError::Medium`].
    pub fn lost(&self, most_names: usize) -> Result<Lost> {
        let points = self.lock_points().clone();
        let needs = NeedsFiles::read(self, &points)?;
        let mut lost = Lost::default();
        self.each_known(&needs, &points, &points, |chunk| {
            if chunk.places.is_empty() && chunk.count.is_some_and(|count| count.now > 0) {
                lost.chunks += 1;
                if lost.names.len() < most_names {
                    lost.names.push(chunk.name);
                }
                for point in chunk.points() {
                    *lost.points.entry(point).or_default() += 1;
                }
            }
            Ok(())
        })?;
        Ok(lost)
    }

    fn scrub_segments(&self, after: &mut Option<SegmentHash>, go_on: GoOn<'_>, scrubbed: &mut Scrubbed) -> Result<()> {
        let lengths = segment_lengths(&*self.medium).map_err(medium("listing the segments"))?;
        let mut segments: Vec<(SegmentHash, u64)> = lengths.into_iter().collect();
        segments.sort_unstable();
        let total = segments.iter().map(|(_, len)| len).sum();
        let mut headway = Headway { done: 0, total };
        for (hash, len) in segments {
            if after.is_none_or(|after| hash > after) {
                if !go_on(headway) {
                    return Err(StoreError::Interrupted);
                }
                self.scrub_segment(hash, scrubbed)?;
                *after = Some(hash);
            }
            headway.done += len;
        }
        go_on(headway);
        Ok(())
    }

    fn scrub_segment(&self, hash: SegmentHash, scrubbed: &mut Scrubbed) -> Result<()> {
        let path = layout::segment(&hash);
        let file = match self.medium.open(&path) {
            Ok(file) => file,
            // Compaction may have been quicker.
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(e) => return Err(medium("opening a segment")(e)),
        };
        scrubbed.segments += 1;
        scrubbed.bytes += file.len();
        // Read twice before it counts as damaged: the first time may have been the memory's or the cable's fault.
        if let Verdict::Damaged { .. } = self.examine(hash, &*file)?
            && let Verdict::Damaged { why, sound } = self.examine(hash, &*file)?
        {
            self.set_aside(hash, &*file, &sound)?;
            scrubbed.note(path, Wrong::Damaged(why));
        }
        Ok(())
    }

    /// A segment is sound when its bytes hash to its name: they are those that were checked when it arrived. Only of one
    /// that is not is it asked why.
    fn examine(&self, hash: SegmentHash, file: &dyn StoredFile) -> Result<Verdict> {
        let mut hasher = blake3::Hasher::new();
        each_piece(file, |piece| {
            hasher.update(piece);
            Ok(())
        })?;
        let found = SegmentHash(*hasher.finalize().as_bytes());
        if found == hash {
            return Ok(Verdict::Sound);
        }
        let mut scanner = SegmentScanner::new(self.id);
        let why = match each_piece(file, |piece| Ok(scanner.push(piece)?)).and_then(|()| Ok(scanner.finish()?)) {
            Ok(_) => format!("it is another segment, {found}"),
            Err(StoreError::Format(why)) => why.to_string(),
            Err(other) => return Err(other),
        };
        Ok(Verdict::Damaged { why, sound: self.sound_records(file)? })
    }

    /// The records of a damaged segment: by its footer if that is sound, else one after another as far as they go.
    pub(super) fn records_of_damaged(&self, file: &dyn StoredFile) -> Result<Vec<SegmentEntry>> {
        let failed = medium("reading a segment");
        let read = |offset: u64, n: usize| {
            let mut bytes = vec![0; n];
            file.read_exact_at(&mut bytes, offset).map_err(&failed)?;
            Ok::<_, StoreError>(bytes)
        };
        match read_footer(self.id, file.len(), read) {
            Err(StoreError::Format(_)) => records_in_order(file).map_err(&failed),
            other => other,
        }
    }

    /// Those of them that are sound.
    fn sound_records(&self, file: &dyn StoredFile) -> Result<Vec<SegmentEntry>> {
        let failed = medium("reading a segment");
        let mut sound = Vec::new();
        for entry in self.records_of_damaged(file)? {
            let end = u64::from(entry.offset) + RECORD_HEAD as u64 + u64::from(entry.len);
            if end <= file.len() && sound_record(file, &entry.name, entry.offset, entry.len).map_err(&failed)?.is_some() {
                sound.push(entry);
            }
        }
        Ok(sound)
    }

    /// Moves a damaged segment out of the way and keeps what is sound in it.
    fn set_aside(&self, hash: SegmentHash, file: &dyn StoredFile, sound: &[SegmentEntry]) -> Result<()> {
        let _alone = self.alone();
        let failed = medium("setting a damaged segment aside");
        let mut builder = SegmentBuilder::new(self.id, 0);
        let mut entries = Vec::new();
        for entry in sound {
            if let Some(sealed) = sound_record(file, &entry.name, entry.offset, entry.len).map_err(&failed)? {
                entries.push(SegmentEntry { offset: builder.offset(), ..*entry });
                builder.push(entry.name, &sealed);
            }
        }
        let kept = (!entries.is_empty()).then(|| builder.finish());
        if let Some(kept) = &kept {
            write_segment(self, kept)?;
            if kept.hash == hash {
                // Only its head or footer was damaged; written anew, it is what it was.
                let mut index = self.index.write().unwrap_or_else(PoisonError::into_inner);
                let grown = index.add(hash, &entries)?;
                self.used.grow(grown);
                return Ok(());
            }
        }
        let mut index = self.index.write().unwrap_or_else(PoisonError::into_inner);
        index.drop_segment(hash);
        if let Some(kept) = kept {
            let grown = index.add(kept.hash, &entries)?;
            self.used.grow(grown);
        }
        let aside = format!("{}/{}", layout::DAMAGED, layout::segment_file(&hash));
        self.medium.rename(&layout::segment(&hash), &aside).map_err(&failed)?;
        let grown = index.settle()?;
        self.used.grow(grown);
        self.medium.sync_directory(layout::DAMAGED).map_err(&failed)?;
        self.medium.sync_directory(&layout::segment_directory(&hash)).map_err(&failed)
    }

    /// Segments that the index leads to and that are gone, and sound ones that it does not know.
    fn scrub_missing(&self, scrubbed: &mut Scrubbed) -> Result<()> {
        let _alone = self.alone();
        let mut index = self.index.write().unwrap_or_else(PoisonError::into_inner);
        let there = segment_lengths(&*self.medium).map_err(medium("listing the segments"))?;
        let known = index.segments()?;
        let gone: Vec<SegmentHash> = known.iter().copied().filter(|hash| !there.contains_key(hash)).collect();
        let unknown: Vec<SegmentHash> = there.into_keys().filter(|hash| !known.contains(hash)).collect();
        for hash in gone {
            scrubbed.note(layout::segment(&hash), Wrong::Missing);
            index.drop_segment(hash);
        }
        let mut grown = 0;
        for hash in unknown {
            // Its footer is sound, or it would have been set aside; an index from an earlier time did not know it.
            if let Ok(entries) = index.footer(&hash) {
                grown += index.add(hash, &entries)?;
            }
        }
        grown += index.settle()?;
        self.used.grow(grown);
        Ok(())
    }

    /// Points, needs, slots, index and the store's description.
    fn scrub_small(&self, scrubbed: &mut Scrubbed) -> Result<()> {
        match self.description() {
            Ok(file) if file.store == self.id => {}
            Ok(_) => scrubbed.note(layout::STORE_FILE, Wrong::Damaged("it is another store's".into())),
            Err(StoreError::Format(why)) => scrubbed.note(layout::STORE_FILE, Wrong::Damaged(why.to_string())),
            Err(StoreError::Medium { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                scrubbed.note(layout::STORE_FILE, Wrong::Missing);
            }
            Err(other) => return Err(other),
        }
        let points = self.lock_points().clone();
        for sequence in &points {
            let path = format!("{}/{}", layout::POINTS, layout::point(*sequence));
            match self.point_head(*sequence) {
                Ok(head) if head.store == self.id && head.sequence == *sequence => {}
                Ok(_) => scrubbed.note(path, Wrong::Damaged("it is another point".into())),
                Err(StoreError::Format(why)) => scrubbed.note(path, Wrong::Damaged(why.to_string())),
                Err(StoreError::NoPoint(_) | StoreError::PointLost(_)) => scrubbed.note(path, Wrong::Missing),
                Err(other @ StoreError::OtherPoint(_)) => scrubbed.note(path, Wrong::Damaged(other.to_string())),
                Err(other) => return Err(other),
            }
        }
        for lost in self.lost_points()? {
            scrubbed.note(format!("{}/{}", layout::POINTS, layout::point(lost)), Wrong::Missing);
        }
        self.scrub_receipts(&points, scrubbed)?;
        let needs = numbers(&*self.medium, layout::NEEDS, layout::NEEDS_SUFFIX)?;
        for missing in points.difference(&needs) {
            scrubbed.note(format!("{}/{}", layout::NEEDS, layout::needs(*missing)), Wrong::Missing);
        }
        for sequence in needs {
            let path = format!("{}/{}", layout::NEEDS, layout::needs(sequence));
            match self.scan_needs(sequence, |_, _| Ok(())) {
                Ok(summary) if summary.head.store == self.id && summary.head.sequence == sequence => {}
                Ok(_) => scrubbed.note(path, Wrong::Damaged("they are another point's".into())),
                Err(StoreError::Format(why)) => scrubbed.note(path, Wrong::Damaged(why.to_string())),
                Err(other) => return Err(other),
            }
        }
        let slots = self.medium.list(layout::SLOTS).map_err(medium("reading the key slots"))?;
        for listed in slots.into_iter().filter(|listed| layout::belongs(layout::SLOTS, &listed.name)) {
            let path = format!("{}/{}", layout::SLOTS, listed.name);
            let bytes = read_whole(&*self.medium, &path, MAX_SMALL).map_err(medium("reading the key slots"));
            match bytes.and_then(|bytes| Ok(Slot::from_bytes(&bytes)?)) {
                Ok(slot) if slot.store == self.id && layout::slot(&slot.id) == listed.name => {}
                Ok(_) => scrubbed.note(path, Wrong::Damaged("it is another slot".into())),
                Err(StoreError::Format(why)) => scrubbed.note(path, Wrong::Damaged(why.to_string())),
                Err(other) => return Err(other),
            }
        }
        self.scrub_index(scrubbed)
    }

    fn scrub_receipts(&self, points: &BTreeSet<u64>, scrubbed: &mut Scrubbed) -> Result<()> {
        for sequence in points {
            let path = format!("{}/{}", layout::RECEIPTS, layout::receipt(*sequence));
            match self.receipt(*sequence) {
                Ok(Some(_)) => {}
                Ok(None) => scrubbed.note(path, Wrong::Missing),
                Err(error @ (StoreError::Format(_) | StoreError::OtherReceipt(_))) => {
                    scrubbed.note(path, Wrong::Damaged(error.to_string()));
                }
                Err(other) => return Err(other),
            }
        }
        Ok(())
    }

    /// The index must know every chunk that a footer lists, and where it lies. One that does not is made again. An entry
    /// that went wrong is no longer found under its own name, so nothing else needs to be looked for.
    fn scrub_index(&self, scrubbed: &mut Scrubbed) -> Result<()> {
        let _alone = self.alone();
        let segments = self.index.read().unwrap_or_else(PoisonError::into_inner).segments();
        let agrees = match segments {
            Ok(segments) => {
                segments.iter().try_fold(true, |agrees, hash| Ok::<_, StoreError>(agrees && self.index_agrees(hash)?))?
            }
            Err(StoreError::Format(_)) => false,
            Err(other) => return Err(other),
        };
        if !agrees {
            scrubbed.note(layout::INDEX, Wrong::Damaged("it did not lead to every chunk; it was made again".into()));
            let grown = self.index.write().unwrap_or_else(PoisonError::into_inner).make_again()?;
            self.used.grow(grown);
        }
        Ok(())
    }

    /// Whether the index leads to every chunk of a segment, there or to another record of the same chunk.
    fn index_agrees(&self, hash: &SegmentHash) -> Result<bool> {
        let index = self.index.read().unwrap_or_else(PoisonError::into_inner);
        let (mut look_ups, mut reader) = (index.look_ups(), self.reader());
        for entry in index.footer(hash)? {
            let place = match look_ups.find(&entry.name) {
                Ok(Some(place)) => place,
                Ok(None) | Err(StoreError::Format(_)) => return Ok(false),
                Err(other) => return Err(other),
            };
            let here = place.segment == *hash && (place.offset, place.len) == (entry.offset, entry.len);
            if !here && (place.segment == *hash || !reader.is_sound_at(&entry.name, &place)?) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn scrub_aliens(&self, scrubbed: &mut Scrubbed) -> Result<()> {
        let failed = medium("listing the store's files");
        let list = |directory: &str| self.medium.list(directory).map_err(&failed);
        for listed in list("")? {
            if ![layout::STORE_FILE, layout::OWNER_FILE].contains(&listed.name.as_str()) {
                scrubbed.note(listed.name, Wrong::Alien);
            }
        }
        for directory in [layout::POINTS, layout::NEEDS, layout::SLOTS, layout::INDEX] {
            for listed in list(directory)?.into_iter().filter(|listed| !layout::belongs(directory, &listed.name)) {
                scrubbed.note(format!("{directory}/{}", listed.name), Wrong::Alien);
            }
        }
        for part in self.medium.directories(layout::SEGMENTS).map_err(&failed)? {
            let directory = format!("{}/{part}", layout::SEGMENTS);
            for listed in list(&directory)? {
                let belongs =
                    layout::parse_segment(&listed.name).is_some_and(|hash| layout::segment_directory(&hash) == directory);
                if !belongs {
                    scrubbed.note(format!("{directory}/{}", listed.name), Wrong::Alien);
                }
            }
        }
        Ok(())
    }
}

/// Reads a segment in pieces, the next while one is taken; not beyond what segments may have.
pub(super) fn each_piece(file: &dyn StoredFile, mut take: impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
    let (out, read) = mpsc::sync_channel(WAITING);
    let (give_back, buffers) = mpsc::channel::<Vec<u8>>();
    thread::scope(|scope| {
        scope.spawn(move || {
            let (mut at, len) = (0, file.len().min(MAX_SEGMENT + 1));
            while at < len {
                let mut piece = buffers.try_recv().unwrap_or_default();
                piece.resize(usize::try_from(len - at).unwrap_or(PIECE).min(PIECE), 0);
                let outcome = file.read_exact_at(&mut piece, at);
                at += piece.len() as u64;
                let failed = outcome.is_err();
                if out.send(outcome.map(|()| piece)).is_err() || failed {
                    return;
                }
            }
        });
        for piece in read {
            let piece = piece.map_err(medium("reading a segment"))?;
            take(&piece)?;
            // The reader may have come to the end.
            let _ = give_back.send(piece);
        }
        Ok(())
    })
}

/// The records of a segment without a sound footer, as far as one leads to the next.
fn records_in_order(file: &dyn StoredFile) -> io::Result<Vec<SegmentEntry>> {
    let (mut at, mut entries) = (SEGMENT_HEAD as u64, Vec::new());
    let mut head = [0; RECORD_HEAD];
    while at + RECORD_HEAD as u64 <= file.len().min(MAX_SEGMENT) {
        file.read_exact_at(&mut head, at)?;
        let Ok(record) = RecordHead::from_bytes(&head) else { break };
        entries.push(SegmentEntry { name: record.name, offset: u32::try_from(at).expect("within a segment"), len: record.len });
        at += RECORD_HEAD as u64 + u64::from(record.len);
    }
    Ok(entries)
}
