//! Image stores on their medium: the only part of the service that touches destinations.

mod guarded;
mod marker;
mod verdict;
mod volume;

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_image::StoreId;
use jetfrost_image::format::{FormatError, StoreFile};
use jetfrost_image::medium::{DirectoryMedium, Medium, MemoryMedium, OverlayMedium};
use jetfrost_image::store::{Store, StoreError, describe_again, occupied_bytes};
use jetfrost_types::{AccountId, DestinationId, ImageStoreId};
use jetfrost_wire::destination::Fitness;

use guarded::GuardedMedium;
pub(crate) use marker::{Marker, MarkerError};
pub(crate) use verdict::{NoDirectory, judge, there_or_above, volumes};
pub(crate) use volume::volume_of;

/// Stores kept open; each costs a few file handles and up to a few MB of recent index entries.
const MOST_OPEN: usize = 64;

/// Why the shelf refused or failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MediaError {
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
    /// The directory cannot be a destination.
    #[error("this directory cannot be a destination: {}", .0.join("; "))]
    Unfit(Vec<String>),
}

/// A destination, as the shelf needs to know it.
#[derive(Debug, Clone)]
pub(crate) struct Place {
    pub(crate) id: DestinationId,
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
    /// What stores occupied when they could last be looked at.
    remembered: HashMap<StoreId, u64>,
    /// Bytes that are on their way, by what they count for.
    expected: HashMap<CountsFor, u64>,
}

/// What stored bytes count for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum CountsFor {
    /// The limit of an image store.
    Store(ImageStoreId),
    /// The quota of an account.
    Account(AccountId),
    /// The capacity of a destination.
    Destination(DestinationId),
    /// What a destination's volume has free.
    Volume(DestinationId),
}

/// All destinations' image stores.
pub(crate) struct Media {
    service: String,
    state: Arc<Mutex<State>>,
}

impl Media {
    pub(crate) fn new(service: String) -> Self {
        Self { service, state: Arc::default() }
    }

    /// Lays out a new destination and writes its marker. `others` are the directories of all others.
    pub(crate) fn lay_out(&self, place: &Place, name: &str, created: &str, others: &[PathBuf]) -> Result<(), MediaError> {
        let made = match std::fs::create_dir(&place.directory) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => {
                return Err(MediaError::Unfit(vec![format!("{} cannot be made: {e}", place.directory.display())]));
            }
            made => made.is_ok(),
        };
        let verdict = judge(&place.directory, others, &self.service);
        if verdict.fitness == Fitness::Unfit {
            if made {
                // What was refused leaves nothing behind. The directory is empty; if not, it stays.
                let _ = std::fs::remove_dir(&place.directory);
            }
            return Err(MediaError::Unfit(verdict.reasons));
        }
        let failed = |source| MediaError::Io { doing: "laying out the destination", source };
        match std::fs::create_dir(place.directory.join(STORES)) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(failed(e)),
            _ => {}
        }
        let marker = Marker::new(&self.service, place.id.as_str(), name, created);
        marker.write(&place.directory).map_err(failed)
    }

    /// Checks that the destination is there and this installation's.
    pub(crate) fn check(&self, place: &Place) -> Result<(), MarkerError> {
        Marker::check(&place.directory, &self.service, place.id.as_str())
    }

    /// Makes an image store.
    pub(crate) fn create(&self, place: &Place, file: &StoreFile, slots: &[Vec<u8>], owner: &str) -> Result<(), MediaError> {
        self.check(place)?;
        let directory = store_directory(place, file.store);
        std::fs::create_dir(&directory)
            .map_err(|source| MediaError::Io { doing: "making the image store's directory", source })?;
        let store = Store::create(self.medium(place, &directory), file)?;
        for slot in slots {
            store.put_slot(slot)?;
        }
        store.put_owner(owner.as_bytes())?;
        self.keep(Arc::new(store));
        Ok(())
    }

    /// An image store, open.
    pub(crate) fn store(&self, place: &Place, id: StoreId) -> Result<Arc<Store>, MediaError> {
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
        let medium = self.medium(place, &store_directory(place, id));
        let opened = match Store::open(Arc::clone(&medium)) {
            // Its description is lost or damaged; what it is follows from its other files.
            Err(StoreError::NoStore | StoreError::Format(FormatError::CutShort { .. } | FormatError::Damaged { .. }))
                if describe_again(&medium, id)? =>
            {
                tracing::warn!(store = %id, "the description of an image store was damaged, and was made again");
                Store::open(medium)
            }
            other => other,
        };
        Ok(self.keep(Arc::new(opened?)))
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

    /// Closes stores whose destination is somewhere else now.
    pub(crate) fn close<'s>(&self, stores: impl Iterator<Item = &'s str>) {
        let mut state = self.lock();
        for id in stores.filter_map(|id| id.parse::<StoreId>().ok()) {
            state.open.remove(&id);
            state.sizes.remove(&id);
        }
    }

    /// Bytes that a store occupies.
    pub(crate) fn used(&self, place: &Place, id: StoreId) -> Result<u64, MediaError> {
        {
            let state = self.lock();
            if let Some(opened) = state.open.get(&id) {
                return Ok(opened.store.used());
            }
            if let Some(size) = state.sizes.get(&id) {
                return Ok(*size);
            }
        }
        match self.store(place, id) {
            Ok(store) => Ok(store.used()),
            Err(MediaError::Marker(error)) => Err(error.into()),
            // What cannot be opened takes its room all the same.
            Err(_) => {
                let used = occupied_bytes(&*self.medium(place, &store_directory(place, id)))
                    .map_err(|source| MediaError::Io { doing: "adding up the image store's files", source })?;
                self.lock().sizes.insert(id, used);
                Ok(used)
            }
        }
    }

    /// Bytes that a store occupies, or `remembered` while it cannot be looked at.
    pub(crate) fn used_or(&self, place: &Place, id: StoreId, remembered: u64) -> u64 {
        self.used(place, id).unwrap_or_else(|_| {
            self.lock().remembered.insert(id, remembered);
            remembered
        })
    }

    /// Begins to claim room for what arrives. Nothing is claimed by this: what only was announced takes nobody's room.
    pub(crate) fn claim(&self, budgets: Vec<Budget>) -> Claim {
        Claim { state: Arc::clone(&self.state), budgets, bytes: 0 }
    }

    /// Whether something is arriving.
    pub(crate) fn is_busy(&self) -> bool {
        !self.lock().expected.is_empty()
    }

    /// Sets an image store aside that is to be removed: half a store is never mistaken for one.
    pub(crate) fn set_aside(&self, place: &Place, id: StoreId) -> Result<(), MediaError> {
        self.check(place)?;
        {
            let mut state = self.lock();
            state.open.remove(&id);
            state.sizes.remove(&id);
        }
        let failed = |source| MediaError::Io { doing: "removing the image store", source };
        let removed = place.directory.join(REMOVED);
        std::fs::create_dir_all(&removed).map_err(failed)?;
        match std::fs::rename(store_directory(place, id), removed.join(id.to_string())) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(failed(e)),
            _ => Ok(()),
        }
    }

    /// Removes what was set aside.
    pub(crate) fn clear_removed(&self, place: &Place) -> Result<(), MediaError> {
        self.check(place)?;
        match std::fs::remove_dir_all(place.directory.join(REMOVED)) {
            Err(source) if source.kind() != io::ErrorKind::NotFound => {
                Err(MediaError::Io { doing: "removing the image store", source })
            }
            _ => Ok(()),
        }
    }

    /// Writes a probe to a destination, makes it durable and reads it back. Its name is gone before it has any content: nothing of it
    /// can stay behind.
    pub(crate) fn probe(&self, place: &Place, probe: &[u8]) -> Result<Vec<u8>, MediaError> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        self.check(place)?;
        // Several may be tried at once.
        let name = format!(".probe-{}-{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed));
        let path = place.directory.join(STORES).join(name);
        let tried = || {
            let mut file = File::options().read(true).write(true).create_new(true).open(&path)?;
            std::fs::remove_file(&path)?;
            file.write_all(probe)?;
            file.sync_all()?;
            file.rewind()?;
            let mut read = Vec::with_capacity(probe.len());
            file.take(probe.len() as u64 + 1).read_to_end(&mut read)?;
            if read == probe { Ok(read) } else { Err(io::ErrorKind::InvalidData.into()) }
        };
        tried().map_err(|source| MediaError::Io { doing: "writing a probe to the destination", source })
    }

    /// Looks at a destination of another installation, and writes nothing to it.
    pub(crate) fn find(&self, directory: &Path, others: &[PathBuf]) -> Result<Found, MediaError> {
        let shown = directory.display();
        let unfit = |reason: String| MediaError::Unfit(vec![reason]);
        if !directory.is_absolute() {
            return Err(unfit(format!("{shown} is not an absolute path")));
        }
        let marker = Marker::read(directory).ok_or_else(|| unfit(format!("there is no marker of a destination in {shown}")))?;
        if marker.service == self.service || others.iter().any(|other| other == directory) {
            return Err(unfit(format!("{shown} is a destination of this service already")));
        }
        let failed = |source| MediaError::Io { doing: "listing the image stores", source };
        let mut stores: Vec<(String, Arc<dyn Medium>)> = Vec::new();
        for entry in std::fs::read_dir(directory.join(STORES)).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let below = Arc::new(DirectoryMedium::new(entry.path()));
            let medium = OverlayMedium::new(below, Arc::new(MemoryMedium::default()));
            stores.push((entry.file_name().to_string_lossy().into_owned(), Arc::new(medium)));
        }
        stores.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(Found { id: DestinationId(marker.destination), name: marker.name, stores })
    }

    /// Makes a destination of another installation this one's. That one cannot write to it any more.
    pub(crate) fn take_over(&self, place: &Place, name: &str, created: &str) -> Result<(), MediaError> {
        let marker = Marker::new(&self.service, place.id.as_str(), name, created);
        marker.take_over(&place.directory).map_err(|source| MediaError::Io { doing: "writing the marker", source })
    }

    /// Removes what makes a directory a destination, once no image store is left on it.
    pub(crate) fn clear(&self, place: &Place) -> Result<(), MediaError> {
        self.check(place)?;
        let failed = |source| MediaError::Io { doing: "clearing the destination", source };
        for directory in [STORES, REMOVED] {
            match std::fs::remove_dir(place.directory.join(directory)) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(failed(e)),
                _ => {}
            }
        }
        match std::fs::remove_dir_all(place.directory.join(RECORDS)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(failed(e)),
            _ => {}
        }
        Marker::remove(&place.directory).map_err(failed)
    }

    fn medium(&self, place: &Place, directory: &Path) -> Arc<dyn Medium> {
        Arc::new(GuardedMedium::new(DirectoryMedium::new(directory), place.clone(), self.service.clone()))
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        locked(&self.state)
    }
}

fn locked(state: &Mutex<State>) -> MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

impl State {
    /// What a store occupies that is open or was.
    fn used(&self, id: StoreId) -> u64 {
        let open = self.open.get(&id).map(|opened| opened.store.used());
        open.or_else(|| self.sizes.get(&id).or_else(|| self.remembered.get(&id)).copied()).unwrap_or(0)
    }

    fn left(&self, budget: &Budget) -> u64 {
        let expected = self.expected.get(&budget.what).copied().unwrap_or(0);
        let used = budget.used_besides.saturating_add(budget.stores.iter().map(|id| self.used(*id)).sum::<u64>());
        budget.limit.saturating_sub(used).saturating_sub(expected)
    }

    /// What is left of each of some budgets must be `bytes` at least.
    fn check(&self, budgets: &[Budget], bytes: u64) -> Result<(), Full> {
        for (i, budget) in budgets.iter().enumerate() {
            let left = self.left(budget);
            if bytes > left {
                return Err(Full { budget: i, left });
            }
        }
        Ok(())
    }

    fn release(&mut self, budgets: &[Budget], bytes: u64) {
        for Budget { what, .. } in budgets {
            if let Some(expected) = self.expected.get_mut(what) {
                *expected = expected.saturating_sub(bytes);
                if *expected == 0 {
                    self.expected.remove(what);
                }
            }
        }
    }
}

/// A limit, and what is used of it.
#[derive(Debug)]
pub(crate) struct Budget {
    pub(crate) what: CountsFor,
    pub(crate) limit: u64,
    /// The stores whose bytes count; each must have been looked at by [`Media::used`].
    pub(crate) stores: Vec<StoreId>,
    /// Other bytes that count.
    pub(crate) used_besides: u64,
}

/// There is no room: which of the budgets says so, and what is left of it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Full {
    pub(crate) budget: usize,
    pub(crate) left: u64,
}

/// Room for bytes that arrived and are not counted yet.
pub(crate) struct Claim {
    state: Arc<Mutex<State>>,
    budgets: Vec<Budget>,
    bytes: u64,
}

impl Claim {
    /// Whether `bytes` would fit now.
    pub(crate) fn check(&self, bytes: u64) -> Result<(), Full> {
        locked(&self.state).check(&self.budgets, bytes)
    }

    /// What is left for more, by the limit that leaves the least.
    pub(crate) fn left(&self) -> u64 {
        let state = locked(&self.state);
        self.budgets.iter().map(|budget| state.left(budget)).min().unwrap_or(u64::MAX)
    }

    /// Takes room for bytes that arrived.
    pub(crate) fn take(&mut self, bytes: u64) -> Result<(), Full> {
        let mut state = locked(&self.state);
        state.check(&self.budgets, bytes)?;
        for budget in &self.budgets {
            *state.expected.entry(budget.what.clone()).or_default() += bytes;
        }
        self.bytes += bytes;
        Ok(())
    }

    /// Gives the room back at the same moment as `count` counts what was written.
    pub(crate) fn settle(mut self, count: &dyn Fn()) {
        let shared = Arc::clone(&self.state);
        let mut state = locked(&shared);
        count();
        state.release(&self.budgets, self.bytes);
        self.bytes = 0;
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        if self.bytes > 0 {
            locked(&self.state).release(&self.budgets, self.bytes);
        }
    }
}

/// A destination of another installation.
pub(crate) struct Found {
    /// Its id, as its marker says.
    pub(crate) id: DestinationId,
    /// Its name, as its marker says.
    pub(crate) name: String,
    /// Its image stores, by the names of their directories, each on a medium that keeps changes to itself.
    pub(crate) stores: Vec<(String, Arc<dyn Medium>)>,
}

const STORES: &str = "stores";
/// Copies of the service's own records.
pub(crate) const RECORDS: &str = "records";
/// Image stores on their way out.
const REMOVED: &str = "removed";

fn store_directory(place: &Place, id: StoreId) -> PathBuf {
    place.directory.join(STORES).join(id.to_string())
}
