//! From chunks to segments on the service: ask, seal, pack, send, each in threads of its own, with little in between.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

use bytes::Bytes;
use crossbeam_channel::{Receiver, Sender, TrySendError, bounded};
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Effort, Sealer, StoreKeys, SystemRandom};
use jetfrost_image::format::{FinishedSegment, SegmentBuilder};
use jetfrost_image::tree::{ChunkBuffer, ChunkSink};

use super::carried::{Buffers, Carried, SHORT};
use crate::api::Api;
use crate::error::ClientError;
use crate::progress::Meter;

type Result<T> = std::result::Result<T, ClientError>;

/// Segments are sent when they have reached this size.
const SEGMENT: usize = 16 << 20;
/// Chunks on their way between two threads. So many, that a stretch of small files or a thread that has to wait for a processor
/// does not leave the others idle.
const WAITING: usize = 256;
/// A question is not longer than this, in bytes of memory of the chunks asked about and in names.
const ASK_BYTES: usize = 8 << 20;
const ASK_NAMES: usize = 512;
/// Uploads at the same time.
const UPLOADS: usize = 2;
/// Segments that wait to be sent.
const WAITING_SEGMENTS: usize = 1;

struct Job {
    name: ChunkName,
    content: Carried,
}

/// The first failure of any thread.
type Failure = Arc<Mutex<Option<ClientError>>>;

/// Takes chunks and sees to it that the service has them when it is finished.
pub(super) struct Pipeline {
    first: Option<Sender<Job>>,
    buffers: Buffers,
    threads: Vec<JoinHandle<()>>,
    failure: Failure,
    /// What the last point needs is there; ascending.
    base: Arc<Vec<ChunkName>>,
    /// What was given to this pipeline before.
    given: HashSet<ChunkName>,
    meter: Arc<Meter>,
}

impl Pipeline {
    /// Begins. `store_is_empty` spares asking for what cannot be there.
    pub(super) fn begin(
        api: &Api,
        store: &str,
        keys: &StoreKeys,
        base: Arc<Vec<ChunkName>>,
        store_is_empty: bool,
        meter: Arc<Meter>,
    ) -> Self {
        let failure = Failure::default();
        let mut threads = Vec::new();
        let (first, jobs) = bounded(WAITING);
        let mut run = |work: Box<dyn FnOnce() -> Result<()> + Send>| {
            let failure = Arc::clone(&failure);
            threads.push(std::thread::spawn(move || {
                if let Err(error) = work() {
                    failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
                }
            }));
        };
        let unknown = if store_is_empty {
            jobs
        } else {
            let (out, unknown) = bounded(WAITING);
            let (api, store) = (api.clone(), store.to_owned());
            run(Box::new(move || ask(&api, &store, &jobs, &out)));
            unknown
        };
        let (segments, to_send) = bounded::<FinishedSegment>(WAITING_SEGMENTS);
        let packing = Arc::new(Mutex::new(Some(SegmentBuilder::new(keys.store, SEGMENT))));
        let last = Arc::new(LastOut { packing, segments, had_to_wait: AtomicBool::new(false) });
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from).min(8) {
            let (keys, jobs, last) = (keys.clone(), unknown.clone(), Arc::clone(&last));
            run(Box::new(move || seal(&keys, &jobs, &last)));
        }
        drop((unknown, last));
        for _ in 0..UPLOADS {
            let (api, store, to_send, meter) = (api.clone(), store.to_owned(), to_send.clone(), Arc::clone(&meter));
            run(Box::new(move || send(&api, &store, &to_send, &meter)));
        }
        Self { first: Some(first), buffers: Buffers::default(), threads, failure, base, given: HashSet::new(), meter }
    }

    /// Waits until everything that was given is on the service. Returns the bytes sent.
    pub(super) fn finish(mut self) -> Result<u64> {
        drop(self.first.take());
        for thread in self.threads.drain(..) {
            if thread.join().is_err() {
                return Err(ClientError::Unexpected("a thread of the backup panicked".into()));
            }
        }
        match self.failure.lock().unwrap_or_else(PoisonError::into_inner).take() {
            Some(error) => Err(error),
            None => Ok(self.meter.progress().sent),
        }
    }

    /// Whether the service may have to be given this chunk; true once.
    fn is_new(&mut self, name: ChunkName) -> bool {
        self.base.binary_search(&name).is_err() && self.given.insert(name)
    }

    fn begin_job(&self, name: ChunkName, content: Carried) -> Result<()> {
        let first = self.first.as_ref().ok_or(ClientError::Stopped)?;
        // The channel closes when a later stage failed; `finish` tells why.
        first.send(Job { name, content }).map_err(|_| ClientError::Stopped)
    }
}

impl ChunkSink for Pipeline {
    type Error = ClientError;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<()> {
        if self.is_new(name) { self.begin_job(name, Carried::Copied(content.to_vec())) } else { Ok(()) }
    }

    fn put_buffer(&mut self, name: ChunkName, buffer: &mut ChunkBuffer, len: usize) -> Result<()> {
        if len <= SHORT {
            return self.put(name, &buffer[..len]);
        }
        if !self.is_new(name) {
            return Ok(());
        }
        let content = self.buffers.lend(buffer, len);
        self.begin_job(name, content)
    }
}

/// Asks the service which chunks it has and passes the others on.
fn ask(api: &Api, store: &str, jobs: &Receiver<Job>, out: &Sender<Job>) -> Result<()> {
    while let Ok(job) = jobs.recv() {
        let mut batch = vec![job];
        let mut bytes = batch[0].content.room();
        // Whatever has come together meanwhile is asked about in one call.
        while bytes < ASK_BYTES && batch.len() < ASK_NAMES {
            let Ok(job) = jobs.try_recv() else { break };
            bytes += job.content.room();
            batch.push(job);
        }
        let names: Vec<ChunkName> = batch.iter().map(|job| job.name).collect();
        let missing = api.missing(store, &names)?;
        for job in batch.into_iter().zip(missing).filter_map(|(job, missing)| missing.then_some(job)) {
            if out.send(job).is_err() {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// The segment in the making; when the last sealer is done, what is left in it goes out.
struct LastOut {
    packing: Arc<Mutex<Option<SegmentBuilder>>>,
    segments: Sender<FinishedSegment>,
    /// Whether the latest segment had to wait until it could go out.
    had_to_wait: AtomicBool,
}

impl LastOut {
    /// Adds a sealed chunk, and passes the segment on when it is full. False when nobody takes it any more.
    fn push(&self, keys: &StoreKeys, name: ChunkName, sealed: &[u8]) -> bool {
        let full = {
            let mut packing = self.packing.lock().unwrap_or_else(PoisonError::into_inner);
            let builder = packing.get_or_insert_with(|| SegmentBuilder::new(keys.store, SEGMENT));
            builder.push(name, sealed);
            if builder.len() >= SEGMENT { packing.take() } else { None }
        };
        full.is_none_or(|builder| self.pass_on(builder.finish()))
    }

    fn pass_on(&self, segment: FinishedSegment) -> bool {
        let tried = self.segments.try_send(segment);
        self.had_to_wait.store(matches!(tried, Err(TrySendError::Full(_))), Ordering::Relaxed);
        match tried {
            Ok(()) => true,
            Err(TrySendError::Full(segment)) => self.segments.send(segment).is_ok(),
            Err(TrySendError::Disconnected(_)) => false,
        }
    }
}

impl Drop for LastOut {
    fn drop(&mut self) {
        let left = self.packing.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(builder) = left.filter(|builder| !builder.is_empty()) {
            let _ = self.segments.send(builder.finish());
        }
    }
}

/// Seals chunks and packs them into segments.
fn seal(keys: &StoreKeys, jobs: &Receiver<Job>, last: &LastOut) -> Result<()> {
    let random = SystemRandom::default();
    let mut quick = Sealer::new(keys.clone(), Effort::Quick);
    let mut thorough = Sealer::new(keys.clone(), Effort::Thorough);
    let mut sealed = Vec::new();
    while let Ok(job) = jobs.recv() {
        sealed.clear();
        // While segments go out as soon as they are full, time is what is short; else there is time to make them smaller.
        let sealer = if last.had_to_wait.load(Ordering::Relaxed) { &mut thorough } else { &mut quick };
        sealer.seal(&job.name, job.content.bytes(), &random, &mut sealed);
        if !last.push(keys, job.name, &sealed) {
            break;
        }
    }
    Ok(())
}

/// Sends segments. What is sealed is sent also when the run was asked to stop: otherwise a laptop that never stays long
/// would never get further.
fn send(api: &Api, store: &str, segments: &Receiver<FinishedSegment>, meter: &Meter) -> Result<()> {
    while let Ok(segment) = segments.recv() {
        let bytes = Bytes::from(segment.bytes);
        api.put_segment(store, &segment.hash, &bytes)?;
        meter.sent(bytes.len() as u64);
    }
    Ok(())
}
