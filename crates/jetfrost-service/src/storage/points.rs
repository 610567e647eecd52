//! Recovery points in the records, held against what is on the medium.

use std::collections::BTreeSet;

use jetfrost_image::format::PointHead;
use jetfrost_image::store::Store;
use jetfrost_office::retention::PointFacts;

use crate::clock::Moment;
use crate::records::{Connection, Count, Id, Noted, PointRow, StoreRow, WorkstationLine};
use crate::shared::{Result, ServiceError, to_db};
use crate::storage::Storage;
use jetfrost_types::ImageStoreId;

/// A store's points are judged together; there are as many as the rule keeps.
pub(crate) const ALL: usize = 1_000_000;

pub(crate) fn facts(points: &[PointRow]) -> Vec<PointFacts> {
    points.iter().map(fact).collect()
}

pub(crate) fn fact(row: &PointRow) -> PointFacts {
    PointFacts {
        sequence: row.sequence.get(),
        kind: row.kind.0,
        committed_ms: row.committed.ms(),
        complete: row.exceptions == Count::ZERO,
        held: row.hold.is_some(),
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

    pub(crate) fn point_rows(&self, line: &WorkstationLine) -> Result<Vec<PointRow>> {
        self.records.read(|on| Ok::<_, ServiceError>(PointRow::list(&line.store.id, i64::MAX, ALL, on)?))
    }
}

/// Points that are not there, though nothing was about to remove them.
pub(crate) fn lost(rows: &[PointRow], on_media: &BTreeSet<u64>) -> BTreeSet<u64> {
    let is_lost = |row: &&PointRow| !row.going && !on_media.contains(&row.sequence.get());
    rows.iter().filter(is_lost).map(|row| row.sequence.get()).collect()
}

pub(crate) fn insert_point(
    store: &ImageStoreId,
    head: &PointHead,
    committed: Moment,
    run: Option<i64>,
    sent: Count,
    on: &mut Connection,
) -> Result<()> {
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
        ..PointRow::default()
    }
    .insert(on)?;
    Ok(StoreRow::add_point(store, sequence, on)?)
}
