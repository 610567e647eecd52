//! Packing sealed chunks into segments, in few buffers: fresh memory for each would be a good part of a short run's time.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use bytes::Bytes;
use crossbeam_channel::{Receiver, Sender, TryRecvError, bounded};
use jetfrost_image::format::{FinishedSegment, SegmentBuilder};
use jetfrost_image::{ChunkName, SegmentHash, StoreId};

/// Segments are sent when they have reached this size.
const SEGMENT: usize = 16 << 20;
/// One segment is filled while two are sent.
const BUFFERS: usize = 3;

/// The segment in the making; when the last sealer is done, what is left in it goes out.
pub(super) struct Packing {
    store: StoreId,
    filling: Mutex<Filling>,
    segments: Sender<FinishedSegment>,
    /// Buffers whose segments have been sent. Only those who send can give them back, so it is known when none will come.
    spare: Receiver<Vec<u8>>,
    /// Whether the latest segment had to wait for one that was being sent.
    had_to_wait: AtomicBool,
}

struct Filling {
    builder: Option<SegmentBuilder>,
    /// Buffers that were not needed yet.
    unused: usize,
}

/// Full segments to be sent, for each who sends.
#[derive(Clone)]
pub(super) struct Outgoing {
    segments: Receiver<FinishedSegment>,
    returned: Sender<Vec<u8>>,
}

/// Begins to pack segments of a store.
pub(super) fn packing(store: StoreId) -> (Packing, Outgoing) {
    // There is room for all of them: nobody who passes one on waits here.
    let (segments, to_send) = bounded(BUFFERS);
    let (returned, spare) = bounded(BUFFERS);
    let filling = Mutex::new(Filling { builder: None, unused: BUFFERS });
    let packing = Packing { store, filling, segments, spare, had_to_wait: AtomicBool::new(false) };
    (packing, Outgoing { segments: to_send, returned })
}

impl Packing {
    /// Adds a sealed chunk, and passes the segment on when it is full. False when nobody takes it any more.
    pub(super) fn push(&self, name: ChunkName, sealed: &[u8]) -> bool {
        let mut filling = self.filling.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(builder) = self.builder(&mut filling) else { return false };
        builder.push(name, sealed);
        if builder.len() < SEGMENT {
            return true;
        }
        let full = filling.builder.take();
        drop(filling);
        full.is_none_or(|builder| self.segments.send(builder.finish()).is_ok())
    }

    /// Whether there is time to make chunks smaller: segments are filled more quickly than they can be sent.
    pub(super) fn has_time(&self) -> bool {
        self.had_to_wait.load(Ordering::Relaxed)
    }

    /// The segment that is being filled; begins one when there is none, as soon as there is a buffer.
    fn builder<'f>(&self, filling: &'f mut Filling) -> Option<&'f mut SegmentBuilder> {
        if filling.builder.is_none() {
            let buffer = self.buffer(&mut filling.unused)?;
            filling.builder = Some(SegmentBuilder::reusing(buffer, self.store, SEGMENT));
        }
        filling.builder.as_mut()
    }

    /// One that came back rather than one whose memory is not touched yet.
    fn buffer(&self, unused: &mut usize) -> Option<Vec<u8>> {
        let at_once = match self.spare.try_recv() {
            Ok(buffer) => Some(buffer),
            Err(TryRecvError::Disconnected) => return None,
            Err(TryRecvError::Empty) => unused.checked_sub(1).map(|left| {
                *unused = left;
                Vec::new()
            }),
        };
        self.had_to_wait.store(at_once.is_none(), Ordering::Relaxed);
        at_once.or_else(|| self.spare.recv().ok())
    }
}

impl Drop for Packing {
    fn drop(&mut self) {
        let left = self.filling.lock().unwrap_or_else(PoisonError::into_inner).builder.take();
        if let Some(builder) = left.filter(|builder| !builder.is_empty()) {
            let _ = self.segments.send(builder.finish());
        }
    }
}

impl Outgoing {
    /// Sends segments by `put` until there are no more.
    pub(super) fn each<E>(&self, mut put: impl FnMut(&SegmentHash, &Bytes) -> Result<(), E>) -> Result<(), E> {
        while let Ok(segment) = self.segments.recv() {
            let bytes = Bytes::from(segment.bytes);
            put(&segment.hash, &bytes)?;
            let _ = self.returned.send(emptied(bytes));
        }
        Ok(())
    }
}

/// The buffer of what was sent; another one if somebody still holds it.
fn emptied(bytes: Bytes) -> Vec<u8> {
    bytes.try_into_mut().map_or_else(
        |_| Vec::new(),
        |mut bytes| {
            bytes.clear();
            bytes.into()
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    const STORE: StoreId = StoreId([7; 16]);

    /// Pushes chunks until the pushed bytes reach so many segments; false when nobody takes them.
    fn fill(packing: &Packing, segments: usize) -> bool {
        let sealed = vec![1; 1 << 20];
        (0..segments * SEGMENT / sealed.len()).all(|n| packing.push(ChunkName([u8::try_from(n).expect("few"); 32]), &sealed))
    }

    #[test]
    fn segments_go_out_in_no_more_buffers_than_there_may_be_and_the_last_one_too() {
        let (packing, outgoing) = packing(STORE);
        let mut sent = Vec::new();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                assert!(fill(&packing, 5));
                assert!(packing.push(ChunkName([255; 32]), &[1; 100]));
            });
            let ended: Result<(), ()> = outgoing.each(|_, bytes| {
                sent.push((bytes.as_ptr() as usize, bytes.len()));
                Ok(())
            });
            ended.expect("nothing fails");
        });
        let mut buffers: Vec<usize> = sent.iter().map(|(address, _)| *address).collect();
        buffers.sort_unstable();
        buffers.dedup();
        assert!(buffers.len() <= BUFFERS, "{buffers:?}");
        assert_eq!(sent.iter().filter(|(_, len)| *len >= SEGMENT).count(), 5);
        assert!(sent.last().is_some_and(|(_, len)| *len < 1 << 10), "{sent:?}");
    }

    #[test]
    fn there_is_time_once_a_segment_had_to_wait() {
        let (packing, outgoing) = packing(STORE);
        assert!(fill(&packing, BUFFERS));
        assert!(!packing.has_time());
        std::thread::scope(|scope| {
            scope.spawn(|| assert!(packing.push(ChunkName([255; 32]), &[1; 100])));
            while !packing.has_time() {
                std::thread::yield_now();
            }
            let taken = outgoing.segments.recv().expect("a full one");
            outgoing.returned.send(taken.bytes).expect("it is waited for");
        });
        assert!(packing.has_time());
    }

    #[test]
    fn who_packs_does_not_wait_for_buffers_that_nobody_will_give_back() {
        let (packing, outgoing) = packing(STORE);
        std::thread::scope(|scope| {
            scope.spawn(move || assert_eq!(outgoing.each(|_, _| Err("the service is gone")), Err("the service is gone")));
            assert!(!fill(&packing, BUFFERS + 1));
        });
    }
}
