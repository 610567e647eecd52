//! Recovery points in the records, held against what is on the medium.

use std::collections::BTreeSet;

use jetfrost_image::format::PointHead;
use jetfrost_image::store::{Overlap, Store, StoreError};
use jetfrost_office::retention::PointFacts;
use jetfrost_office::suspicion::{StillNeeded, suspicion};

use crate::clock::Moment;
use crate::records::{Connection, Count, Id, InJson, Noted, PointRow, StoreRow, Word, WorkstationLine};
use crate::shared::{Result, ServiceError, to_db};
use crate::storage::Storage;
use jetfrost_types::{ImageStoreId, Suspicion};

/// A store's points are judged together; there are as many as the rule keeps.
pub(crate) const ALL: usize = 1_000_000;

/// What the rule needs to know of the points of an image store.
pub(crate) fn facts(line: &WorkstationLine, points: &[PointRow]) -> Vec<PointFacts> {
    let of = |row: &PointRow| PointFacts { held: row.hold.is_some() || is_held_for_suspect(line, row), ..fact(row) };
    points.iter().map(of).collect()
}

/// Whether a point stays because it, or a later one, is suspect. A suspect one that a person removed goes.
pub(crate) fn is_held_for_suspect(line: &WorkstationLine, row: &PointRow) -> bool {
    let is_before = line.suspect.as_ref().is_some_and(|suspects| row.sequence <= suspects.latest.sequence);
    is_before && !(row.is_suspect() && row.removal.is_some())
}

/// The same of one point, but for what holds it.
pub(crate) fn fact(row: &PointRow) -> PointFacts {
    PointFacts {
        sequence: row.sequence.get(),
        kind: row.kind.0,
        committed_ms: row.committed.ms(),
        complete: row.exceptions == Count::ZERO,
        held: false,
    }
}

impl Storage {
    /// Notes points whose files were removed just before the service was killed; and how many are lost, which nobody removed.
    pub(crate) fn note_points_off_the_shelf(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        self.records.write(|on| {
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let lost = lost(&rows, &on_media);
            StoreRow::set_lost_points(&line.store.id, to_db(lost.len() as u64)?, on)?;
            for row in rows.iter().filter(|row| row.lost != lost.contains(&row.sequence.get())) {
                row.set_lost(!row.lost, on)?;
            }
            let off_shelf = rows.iter().map(|row| row.sequence.get()).filter(|sequence| !on_media.contains(sequence));
            let gone = off_shelf.filter(|sequence| !lost.contains(sequence)).collect();
            self.note_gone(line, &gone, "its time was over", on)
        })
    }

    /// After a recovery the records are older than the media: what is not there and left no receipt was removed meanwhile.
    pub(crate) fn mark_what_went_meanwhile(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        let (on_media, lost) = (store.points(), store.lost_points()?);
        self.records.write(|on| {
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let is_away = |sequence: u64| !on_media.contains(&sequence) && !lost.contains(&sequence);
            let went: Vec<Count> = rows.iter().map(|row| row.sequence).filter(|sequence| is_away(sequence.get())).collect();
            Ok(PointRow::set_going(&line.store.id, &went, on)?)
        })
    }

    pub(crate) fn note_gone(&self, line: &WorkstationLine, gone: &BTreeSet<u64>, why: &str, on: &mut Connection) -> Result<()> {
        for sequence in gone {
            if let Some(mut row) = PointRow::find(&line.store.id, to_db(*sequence)?, on)? {
                let what = row.removal.as_ref().map_or_else(|| why.to_owned(), |removal| format!("removed by {}", removal.by));
                *row.gone = Some(Noted { at: self.clock.now(), what });
                row.update(on)?;
                StoreRow::take_points(&line.store.id, Count::ONE, on)?;
            }
        }
        Ok(())
    }

    /// The latest point of a kind before a number against which nothing is known.
    pub(crate) fn good_before(&self, line: &WorkstationLine, head: &PointHead) -> Result<Option<Count>> {
        let before = to_db(head.sequence)?;
        let row = self.records.read(|on| Ok::<_, ServiceError>(PointRow::last_good(&line.store.id, head.kind, before, on)?))?;
        Ok(row.map(|row| row.sequence))
    }

    pub(crate) fn point_rows(&self, line: &WorkstationLine) -> Result<Vec<PointRow>> {
        self.records.read(|on| Ok::<_, ServiceError>(PointRow::list(&line.store.id, i64::MAX, ALL, on)?))
    }
}

/// Points that are not there, though nothing was about to remove them.
pub(crate) fn lost(rows: &[PointRow], on_media: &BTreeSet<u64>) -> BTreeSet<u64> {
    let is_lost = |row: &&PointRow| !row.going && !on_media.contains(&row.sequence.get());
    rows.iter().filter(is_lost).map(|row| row.sequence.get()).collect()
}

/// What a point looks like, by what its workstation says of it and by what its store keeps for it. `good` is the latest point of its kind before
/// it against which nothing is known.
pub(crate) fn suspicion_of(store: &Store, head: &PointHead, good: Option<Count>) -> Option<Suspicion> {
    let known = |overlap: Result<Option<Overlap>, StoreError>| match overlap {
        Ok(overlap) => overlap.map(|Overlap { before, still }| StillNeeded { before, still }),
        Err(error) => {
            tracing::warn!(%error, point = head.sequence, "looking what a point still needs of an earlier one");
            None
        }
    };
    let of_good = || known(store.overlap_with(good?.get(), head.sequence).map(Some));
    suspicion(head.kind, head.changes.as_ref(), known(store.overlap(head.sequence)), of_good)
}

/// A point that is to be recorded.
pub(crate) struct NewPoint<'p> {
    pub(crate) head: &'p PointHead,
    pub(crate) committed: Moment,
    /// The run that made it, if that is known, and what it sent.
    pub(crate) run: Option<i64>,
    pub(crate) sent: Count,
    pub(crate) suspicion: Option<Suspicion>,
}

/// Records a point, unless it is on record.
pub(crate) fn insert_point(store: &ImageStoreId, new: &NewPoint<'_>, on: &mut Connection) -> Result<()> {
    let NewPoint { head, committed, run, sent, suspicion } = *new;
    let sequence = to_db(head.sequence)?;
    if PointRow::is_recorded(store, sequence, on)? {
        return Ok(());
    }
    PointRow {
        store_id: Id(store.clone()),
        sequence,
        run_number: run,
        kind: head.kind.into(),
        committed,
        files: to_db(head.files)?,
        bytes: to_db(head.bytes)?,
        exceptions: to_db(head.exceptions)?,
        sent,
        changes: head.changes.map(InJson),
        suspicion: suspicion.map(Word),
        ..PointRow::default()
    }
    .insert(on)?;
    Ok(StoreRow::add_point(store, sequence, on)?)
}
