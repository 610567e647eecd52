//! From chunks to segments on the service: ask, seal and pack, send, each in threads of its own, with little in between.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

use crossbeam_channel::{Receiver, Sender, bounded};
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Effort, Sealer, StoreKeys, SystemRandom};
use jetfrost_image::tree::{ChunkBuffer, ChunkSink};

use super::carried::{Buffers, Carried, SHORT};
use super::packing::{Outgoing, Packing, packing};
use crate::api::Api;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::scan::Needs;
use crate::throttle::Throttle;

type Result<T> = std::result::Result<T, ClientError>;

/// Chunks on their way between two threads. So many, that a stretch of small files or a thread that has to wait for a processor
/// does not leave the others idle.
const WAITING: usize = 256;
/// A question is not longer than this, in bytes of memory of the chunks asked about and in names.
const ASK_BYTES: usize = 8 << 20;
const ASK_NAMES: usize = 512;
/// Uploads at the same time.
const UPLOADS: usize = 2;

struct Job {
    name: ChunkName,
    content: Carried,
}

/// The first failure of any thread.
#[derive(Clone, Default)]
struct Failure(Arc<Mutex<Option<ClientError>>>);

impl Failure {
    /// Notes how a thread ended.
    fn note(&self, ended: Result<()>) {
        if let Err(error) = ended {
            self.lock().get_or_insert(error);
        }
    }

    fn is_there(&self) -> bool {
        self.lock().is_some()
    }

    fn lock(&self) -> MutexGuard<'_, Option<ClientError>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What comes in to a thread. When the thread ends before that does, also by a panic, what still comes is let go: what stays in a
/// queue keeps its buffer, and who reads would wait for it for ever.
struct Input<I>(Receiver<I>);

impl<I> Drop for Input<I> {
    fn drop(&mut self) {
        self.0.iter().for_each(drop);
    }
}

/// Works in a thread of its own on what comes in as `input`.
fn working<I: Send + 'static>(
    failure: &Failure,
    input: Receiver<I>,
    work: impl FnOnce(&Receiver<I>) -> Result<()> + Send + 'static,
) -> JoinHandle<()> {
    let (failure, input) = (failure.clone(), Input(input));
    std::thread::spawn(move || {
        let input = input;
        failure.note(work(&input.0));
    })
}

/// Takes chunks and sees to it that the service has them when it is finished.
pub(super) struct Pipeline {
    first: Option<Sender<Job>>,
    buffers: Buffers,
    threads: Vec<JoinHandle<()>>,
    failure: Failure,
    /// What the last point needs is there.
    base: Needs,
    /// What was given to this pipeline before.
    given: HashSet<ChunkName>,
}

impl Pipeline {
    /// Begins. `store_is_empty` spares asking for what cannot be there.
    pub(super) fn begin(
        api: &Api,
        store: &str,
        keys: &StoreKeys,
        base: Needs,
        store_is_empty: bool,
        throttle: Throttle,
        meter: &Arc<Meter>,
    ) -> Self {
        let throttle = Arc::new(throttle);
        let failure = Failure::default();
        let mut threads = Vec::new();
        let (first, jobs) = bounded(WAITING);
        let unknown = if store_is_empty {
            jobs
        } else {
            let (out, unknown) = bounded(WAITING);
            let (api, store) = (api.clone(), store.to_owned());
            threads.push(working(&failure, jobs, move |jobs| ask(&api, &store, jobs, &out)));
            unknown
        };
        let (packing, outgoing) = packing(keys.store);
        let packing = Arc::new(packing);
        let sealers = std::thread::available_parallelism().map_or(2, usize::from).min(8);
        for _ in 0..sealers {
            let (keys, packing) = (keys.clone(), Arc::clone(&packing));
            threads.push(working(&failure, unknown.clone(), move |jobs| seal(&keys, jobs, &packing)));
        }
        drop((unknown, packing));
        for _ in 0..UPLOADS {
            let (api, store, outgoing, meter) = (api.clone(), store.to_owned(), outgoing.clone(), Arc::clone(meter));
            let (failure, throttle) = (failure.clone(), Arc::clone(&throttle));
            threads.push(std::thread::spawn(move || failure.note(send(&api, &store, &outgoing, &throttle, &meter))));
        }
        // When all who send have ended, those who pack learn of it.
        drop(outgoing);
        Self { first: Some(first), buffers: Buffers::new(sealers), threads, failure, base, given: HashSet::new() }
    }

    /// Waits until everything that was given is on the service. Returns what that was, beside what the last point needs.
    pub(super) fn finish(mut self) -> Result<HashSet<ChunkName>> {
        drop(self.first.take());
        for thread in self.threads.drain(..) {
            if thread.join().is_err() {
                return Err(ClientError::Unexpected("a thread of the backup panicked".into()));
            }
        }
        match self.failure.lock().take() {
            Some(error) => Err(error),
            None => Ok(self.given),
        }
    }

    /// Whether the service may have to be given this chunk; true once.
    fn is_new(&mut self, name: ChunkName) -> bool {
        !self.base.contains(name) && self.given.insert(name)
    }

    fn begin_job(&self, name: ChunkName, content: Carried) -> Result<()> {
        // `finish` tells which failure it was.
        let first = self.first.as_ref().filter(|_| !self.failure.is_there()).ok_or(ClientError::Stopped)?;
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

/// Seals chunks and packs them into segments.
fn seal(keys: &StoreKeys, jobs: &Receiver<Job>, packing: &Packing) -> Result<()> {
    let random = SystemRandom::default();
    let mut quick = Sealer::new(keys.clone(), Effort::Quick);
    let mut thorough = Sealer::new(keys.clone(), Effort::Thorough);
    let mut sealed = Vec::new();
    while let Ok(job) = jobs.recv() {
        sealed.clear();
        let sealer = if packing.has_time() { &mut thorough } else { &mut quick };
        sealer.seal(&job.name, job.content.bytes(), &random, &mut sealed);
        if !packing.push(job.name, &sealed) {
            break;
        }
    }
    Ok(())
}

/// Sends segments. What is sealed is sent also when the run was asked to stop: otherwise a laptop that never stays long
/// would never get further.
fn send(api: &Api, store: &str, segments: &Outgoing, throttle: &Arc<Throttle>, meter: &Meter) -> Result<()> {
    segments.each(|hash, bytes| {
        api.put_segment_by(throttle, store, hash, bytes)?;
        meter.sent(bytes.len() as u64);
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::super::carried::BUFFERS;
    use super::*;

    #[test]
    fn who_reads_does_not_wait_for_buffers_in_the_queue_of_a_thread_that_failed() {
        let (first, jobs) = bounded(WAITING);
        let (mut buffers, mut reading, failure) = (Buffers::new(0), ChunkBuffer::default(), Failure::default());
        for n in 0..BUFFERS {
            let name = ChunkName([u8::try_from(n).expect("few"); 32]);
            first.send(Job { name, content: buffers.lend(&mut reading, 1) }).expect("there is room");
        }
        let thread = working(&failure, jobs, |_| Err(ClientError::Stopped));
        // There is none left but those in the queue.
        drop(buffers.lend(&mut reading, 1));
        assert!(failure.is_there());
        drop(first);
        thread.join().expect("no panic");
    }
}
