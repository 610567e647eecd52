//! Which chunks are needed, and where they lie: needs files and index read side by side, a band of names at a time.

use std::collections::BTreeSet;
use std::io;
use std::sync::PoisonError;

use super::index::Place;
use super::needs::{Count, Descent, Event, NeedsFiles};
use super::used::occupied;
use super::{Result, Store, StoreError, layout, medium};
use crate::format::stored_len;
use crate::id::ChunkName;

/// A chunk that is needed, was needed, or is here.
#[derive(Debug)]
pub(super) struct Known<'p> {
    pub(super) name: ChunkName,
    /// How many points need it; `None` when no needs file mentions it.
    pub(super) count: Option<Count>,
    /// Where it lies, the place to read from first; none when it is lost.
    pub(super) places: &'p [(ChunkName, Place)],
    said: &'p [Event],
    descent: &'p Descent,
    now: &'p BTreeSet<u64>,
}

impl Known<'_> {
    /// The points that need it.
    pub(super) fn points(&self) -> Vec<u64> {
        let mut points = self.descent.points(self.said);
        points.retain(|point| self.now.contains(point));
        points
    }
}

/// The room that follows when points go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Freed {
    /// Chunks that nothing needs any more.
    pub chunks: u64,
    /// Bytes that they take in their segments, and the files of the points.
    pub bytes: u64,
}

impl Store {
    /// Calls `each` for every chunk that a needs file or the index knows, ascending by name. `after` are the points that
    /// will remain of `now`.
    pub(super) fn each_known(
        &self,
        needs: &NeedsFiles,
        now: &BTreeSet<u64>,
        after: &BTreeSet<u64>,
        mut each: impl FnMut(&Known<'_>) -> Result<()>,
    ) -> Result<()> {
        let descent = needs.descent(now, after);
        let entries = self.index.read().unwrap_or_else(PoisonError::into_inner).len();
        for band in needs.bands(entries) {
            let said = needs.events(&descent.files, &band)?;
            let places = self.index.read().unwrap_or_else(PoisonError::into_inner).places_in(&band)?;
            let (mut said, mut places) = (&said[..], &places[..]);
            while let Some(name) = first_of(said, places) {
                let (of_name, others) = said.split_at(said.iter().take_while(|event| event.name == name).count());
                let (here, elsewhere) = places.split_at(places.iter().take_while(|(placed, _)| *placed == name).count());
                let count = if of_name.is_empty() { None } else { Some(descent.count(of_name)?) };
                each(&Known { name, count, places: here, said: of_name, descent: &descent, now })?;
                (said, places) = (others, elsewhere);
            }
        }
        Ok(())
    }

    /// The room that follows when `going` go, exactly: a chunk counts when nothing else needs it.
    ///
    /// # Errors
    /// [`StoreError::NoPoint`]; [`StoreError::Needs`] and [`StoreError::Format`] when what the points need is damaged;
    /// [`StoreError::Medium`].
    pub fn room_freed_by(&self, going: &BTreeSet<u64>) -> Result<Freed> {
        let now = self.lock_points().clone();
        if let Some(absent) = going.difference(&now).next() {
            return Err(StoreError::NoPoint(*absent));
        }
        let after = now.difference(going).copied().collect();
        let needs = NeedsFiles::read(self, &now)?;
        let mut freed = Freed::default();
        for sequence in going {
            freed.bytes += self.room_of_point(*sequence)?;
        }
        self.each_known(&needs, &now, &after, |chunk| {
            if chunk.count.is_some_and(|count| count.now > 0 && count.after == 0) {
                freed.chunks += 1;
                freed.bytes += chunk.places.iter().map(|(_, place)| stored_len(place.len)).sum::<u64>();
            }
            Ok(())
        })?;
        Ok(freed)
    }
}

impl Store {
    /// Bytes that a point's file and its receipt occupy.
    fn room_of_point(&self, sequence: u64) -> Result<u64> {
        let point = format!("{}/{}", layout::POINTS, layout::point(sequence));
        let receipt = format!("{}/{}", layout::RECEIPTS, layout::receipt(sequence));
        let mut room = 0;
        for path in [point, receipt] {
            match self.medium.open(&path) {
                Ok(file) => room += occupied(&*self.medium, file.len()),
                Err(e) if e.kind() == io::ErrorKind::NotFound => {}
                Err(e) => return Err(medium("reading a recovery point")(e)),
            }
        }
        Ok(room)
    }
}

fn first_of(said: &[Event], places: &[(ChunkName, Place)]) -> Option<ChunkName> {
    let (a, b) = (said.first().map(|event| event.name), places.first().map(|place| place.0));
    a.into_iter().chain(b).min()
}
