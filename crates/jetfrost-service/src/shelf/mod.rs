//! Image stores on their medium: the only part of the service that touches destinations.

mod guarded;
mod marker;
mod volume;

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_image::StoreId;
use jetfrost_image::format::StoreFile;
use jetfrost_image::medium::{DirectoryMedium, Medium};
use jetfrost_image::store::{Store, StoreError};

use guarded::GuardedMedium;
pub(crate) use marker::{Marker, MarkerError};
pub(crate) use volume::{judge, volume_of};

/// Stores kept open; each costs a few file handles and up to a few MB of recent index entries.
const MOST_OPEN: usize = 64;

/// Why the shelf refused or failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ShelfError {
    /// The destination is not there, or not this installation's.
    #[error(transparent)]
    Marker(#[from] MarkerError),
    /// The image store refused or failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The file system failed.
    #[error("{doing}")]
    Io {
        /// What was being done.
        doing: &'static str,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// The directory does not do as a destination.
    #[error("the directory does not do: {}", .0.join("; "))]
    Unfit(Vec<String>),
}

/// A destination, as the shelf needs to know it.
#[derive(Debug, Clone)]
pub(crate) struct Place {
    pub(crate) id: String,
    pub(crate) directory: PathBuf,
}

struct Opened {
    store: Arc<Store>,
    turn: u64,
}

#[derive(Default)]
struct State {
    open: HashMap<StoreId, Opened>,
    turn: u64,
    /// What stores that are not open occupy.
    sizes: HashMap<StoreId, u64>,
    /// Bytes that are on their way, by destination.
    expected: HashMap<String, u64>,
}

/// All destinations' image stores.
pub(crate) struct Shelf {
    service: String,
    state: Mutex<State>,
}

impl Shelf {
    pub(crate) fn new(service: String) -> Self {
        Self { service, state: Mutex::default() }
    }

    /// Lays out a new destination and writes its marker. `others` are the directories of all others.
    pub(crate) fn lay_out(&self, place: &Place, name: &str, created: &str, others: &[PathBuf]) -> Result<(), ShelfError> {
        match std::fs::create_dir(&place.directory) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => {
                return Err(ShelfError::Unfit(vec![format!("{} cannot be made: {e}", place.directory.display())]));
            }
            _ => {}
        }
        let verdict = judge(&place.directory, others, &self.service);
        if !verdict.fit {
            return Err(ShelfError::Unfit(verdict.reasons));
        }
        let failed = |source| ShelfError::Io { doing: "laying out the destination", source };
        match std::fs::create_dir(place.directory.join(STORES)) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(failed(e)),
            _ => {}
        }
        let marker = Marker::new(&self.service, &place.id, name, created);
        marker.write(&place.directory).map_err(failed)
    }

    /// Checks that the destination is there and this installation's.
    pub(crate) fn check(&self, place: &Place) -> Result<(), MarkerError> {
        Marker::check(&place.directory, &self.service, &place.id)
    }

    /// Makes an image store.
    pub(crate) fn create(&self, place: &Place, file: &StoreFile, slots: &[Vec<u8>], owner: &str) -> Result<(), ShelfError> {
        self.check(place)?;
        let directory = store_directory(place, file.store);
        std::fs::create_dir(&directory)
            .map_err(|source| ShelfError::Io { doing: "making the image store's directory", source })?;
        let store = Store::create(self.medium(place, &directory), file)?;
        for slot in slots {
            store.put_slot(slot)?;
        }
        store.put_owner(owner.as_bytes())?;
        self.keep(Arc::new(store));
        Ok(())
    }

    /// An image store, open.
    pub(crate) fn store(&self, place: &Place, id: StoreId) -> Result<Arc<Store>, ShelfError> {
        self.check(place)?;
        {
            let mut state = self.lock();
            state.turn += 1;
            let turn = state.turn;
            if let Some(opened) = state.open.get_mut(&id) {
                opened.turn = turn;
                return Ok(Arc::clone(&opened.store));
            }
        }
        let store = Arc::new(Store::open(self.medium(place, &store_directory(place, id)))?);
        Ok(self.keep(store))
    }

    /// Keeps a store open; if another thread was quicker, its one is the one.
    fn keep(&self, store: Arc<Store>) -> Arc<Store> {
        let mut state = self.lock();
        state.turn += 1;
        let turn = state.turn;
        let id = store.id();
        let kept = Arc::clone(&state.open.entry(id).or_insert(Opened { store, turn }).store);
        if state.open.len() > MOST_OPEN {
            let idle = state.open.iter().filter(|(_, o)| Arc::strong_count(&o.store) == 1).min_by_key(|(_, o)| o.turn);
            if let Some(idle) = idle.map(|(id, _)| *id)
                && let Some(closed) = state.open.remove(&idle)
            {
                state.sizes.insert(idle, closed.store.used());
            }
        }
        kept
    }

    /// Bytes that a store occupies.
    pub(crate) fn used(&self, place: &Place, id: StoreId) -> Result<u64, ShelfError> {
        {
            let state = self.lock();
            if let Some(opened) = state.open.get(&id) {
                return Ok(opened.store.used());
            }
            if let Some(size) = state.sizes.get(&id) {
                return Ok(*size);
            }
        }
        Ok(self.store(place, id)?.used())
    }

    /// Announces `bytes` that will be written to a place if they fit into `room`; they count until the claim is dropped.
    pub(crate) fn claim<'s>(&'s self, place: &Place, bytes: u64, room: u64) -> Option<Claim<'s>> {
        let mut state = self.lock();
        let expected = state.expected.entry(place.id.clone()).or_default();
        if expected.saturating_add(bytes) > room {
            return None;
        }
        *expected += bytes;
        Some(Claim { shelf: self, place: place.id.clone(), bytes })
    }

    fn medium(&self, place: &Place, directory: &Path) -> Arc<dyn Medium> {
        Arc::new(GuardedMedium::new(DirectoryMedium::new(directory), place.clone(), self.service.clone()))
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Room that is spoken for.
pub(crate) struct Claim<'s> {
    shelf: &'s Shelf,
    place: String,
    bytes: u64,
}

impl Drop for Claim<'_> {
    fn drop(&mut self) {
        if let Some(expected) = self.shelf.lock().expected.get_mut(&self.place) {
            *expected = expected.saturating_sub(self.bytes);
        }
    }
}

const STORES: &str = "stores";

fn store_directory(place: &Place, id: StoreId) -> PathBuf {
    place.directory.join(STORES).join(id.to_string())
}
