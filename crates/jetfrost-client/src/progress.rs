//! How far a run or a restore is, and whether it is to stop.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use jetfrost_wire::run::{Phase, Progress, QueuePlace};

use crate::error::ClientError;

/// Shared between the engine, which counts, and whoever shows it.
#[derive(Debug, Default)]
pub struct Meter {
    phase: Mutex<Phase>,
    files_done: AtomicU64,
    bytes_done: AtomicU64,
    sent: AtomicU64,
    /// One more than the number, 0 for unknown.
    files_total: AtomicU64,
    bytes_total: AtomicU64,
    stop: AtomicBool,
    /// Who cancelled it, if somebody else than the person in front of it did.
    cancelled_by: Mutex<Option<String>>,
    begun: AtomicBool,
    /// Where it waits before it begins.
    queue: Mutex<Option<QueuePlace>>,
}

impl Meter {
    /// How far it is.
    #[must_use]
    pub fn progress(&self) -> Progress {
        // A total that was passed was an estimate that is known to be wrong.
        let total = |number: &AtomicU64, done: &AtomicU64| {
            number.load(Ordering::Relaxed).checked_sub(1).filter(|total| *total >= done.load(Ordering::Relaxed))
        };
        Progress {
            phase: self.phase.lock().map_or_else(|_| Phase::default(), |phase| *phase),
            files_done: self.files_done.load(Ordering::Relaxed),
            files_total: total(&self.files_total, &self.files_done),
            bytes_done: self.bytes_done.load(Ordering::Relaxed),
            bytes_total: total(&self.bytes_total, &self.bytes_done),
            sent: self.sent.load(Ordering::Relaxed),
        }
    }

    /// Asks the engine to stop at the next good moment.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// Asks the engine to stop, as somebody else wishes.
    pub(crate) fn cancel(&self, by: String) {
        if let Ok(mut cancelled) = self.cancelled_by.lock() {
            *cancelled = Some(by);
        }
        self.stop();
    }

    /// For what goes on until it is stopped: whether that was as the person in front of it wished.
    pub(crate) fn unless_cancelled(&self) -> Result<(), ClientError> {
        if self.cancelled_by().is_some() { Err(ClientError::Stopped) } else { Ok(()) }
    }

    /// Who cancelled it, if somebody else did.
    pub(crate) fn cancelled_by(&self) -> Option<String> {
        self.cancelled_by.lock().ok().and_then(|by| by.clone())
    }

    /// Whether it was asked to stop.
    #[must_use]
    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    /// Where it waits in the service's queue, if it does.
    #[must_use]
    pub fn queue(&self) -> Option<QueuePlace> {
        self.queue.lock().map_or(None, |queue| *queue)
    }

    /// Whether the service has admitted it.
    pub(crate) fn has_begun(&self) -> bool {
        self.begun.load(Ordering::Relaxed)
    }

    pub(crate) fn begin(&self) {
        self.wait_at(None);
        self.begun.store(true, Ordering::Relaxed);
    }

    pub(crate) fn wait_at(&self, place: Option<QueuePlace>) {
        if let Ok(mut queue) = self.queue.lock() {
            *queue = place;
        }
    }

    pub(crate) fn enter(&self, phase: Phase) {
        if let Ok(mut current) = self.phase.lock() {
            *current = phase;
        }
    }

    pub(crate) fn expect(&self, files: u64, bytes: u64) {
        self.files_total.store(files.saturating_add(1), Ordering::Relaxed);
        self.bytes_total.store(bytes.saturating_add(1), Ordering::Relaxed);
    }

    /// The bytes are gone through once more.
    pub(crate) fn begin_bytes_again(&self) {
        self.bytes_done.store(0, Ordering::Relaxed);
    }

    /// Everything is gone through once more.
    pub(crate) fn begin_again(&self) {
        self.files_done.store(0, Ordering::Relaxed);
        self.begin_bytes_again();
    }

    /// So many of so many files, where bytes are not what counts.
    pub(crate) fn show_files(&self, done: u64, total: u64) {
        self.files_done.store(done, Ordering::Relaxed);
        self.files_total.store(total.saturating_add(1), Ordering::Relaxed);
    }

    pub(crate) fn file_done(&self) {
        self.files_done.fetch_add(1, Ordering::Relaxed);
    }

    /// Files that are as they were, and were not looked at.
    pub(crate) fn taken_over(&self, files: u64, bytes: u64) {
        self.files_done.fetch_add(files, Ordering::Relaxed);
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn bytes_done(&self, bytes: u64) {
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn sent(&self, bytes: u64) {
        self.sent.fetch_add(bytes, Ordering::Relaxed);
    }
}

/// Tells the service how far it is, every now and then, until dropped.
pub(crate) struct Reporter {
    end: Option<crossbeam_channel::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

const REPORT_EVERY: Duration = Duration::from_secs(2);

impl Reporter {
    pub(crate) fn begin(report: impl Fn() + Send + 'static) -> Self {
        let (end, ended) = crossbeam_channel::bounded::<()>(0);
        let thread = std::thread::spawn(move || {
            while let Err(crossbeam_channel::RecvTimeoutError::Timeout) = ended.recv_timeout(REPORT_EVERY) {
                report();
            }
        });
        Self { end: Some(end), thread: Some(thread) }
    }
}

impl Drop for Reporter {
    fn drop(&mut self) {
        drop(self.end.take());
        if let Some(thread) = self.thread.take() {
            // A report that failed is no reason for the run to fail.
            let _ = thread.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_total_that_was_passed_promises_nothing_more() {
        let meter = Meter::default();
        assert_eq!(meter.progress().bytes_total, None);
        meter.expect(1, 100);
        meter.bytes_done(100);
        assert_eq!(meter.progress().bytes_total, Some(100));
        meter.bytes_done(1);
        assert_eq!(meter.progress().bytes_total, None);
    }
}
