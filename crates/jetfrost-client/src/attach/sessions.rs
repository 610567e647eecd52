//! The clients that are connected: how many there may be, and which of them has to go when others wait.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Connections at the same time; each may read 32 MiB at once.
const MOST: usize = 16;
/// Who has not said what it wants by then is gone.
const HANDSHAKE: Duration = Duration::from_secs(5);
/// Who said nothing for so long makes room for somebody who waits.
const SILENT: Duration = Duration::from_secs(60);

/// Those that are connected.
#[derive(Default)]
pub(super) struct Sessions {
    open: Mutex<Vec<Arc<Client>>>,
    ended: Condvar,
}

/// One that is connected.
pub(super) struct Client {
    began: Instant,
    /// Milliseconds from the beginning to the last byte that came.
    heard: AtomicU64,
    is_ready: AtomicBool,
    close: Box<dyn Fn() + Send + Sync>,
}

impl Client {
    /// It said something.
    pub(super) fn hear(&self) {
        let ms = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.heard.store(ms, Ordering::Relaxed);
    }

    /// It knows what it wants, and from now on reads when it likes.
    pub(super) fn is_ready(&self) {
        self.is_ready.store(true, Ordering::Relaxed);
    }

    fn heard(&self) -> Instant {
        self.began + Duration::from_millis(self.heard.load(Ordering::Relaxed))
    }
}

impl Sessions {
    /// Counts one more. `close` ends its connection.
    pub(super) fn begin(&self, now: Instant, close: impl Fn() + Send + Sync + 'static) -> Arc<Client> {
        let client =
            Arc::new(Client { began: now, heard: AtomicU64::new(0), is_ready: AtomicBool::new(false), close: Box::new(close) });
        self.lock().push(Arc::clone(&client));
        client
    }

    /// Counts one less.
    pub(super) fn end(&self, client: &Arc<Client>) {
        self.lock().retain(|one| !Arc::ptr_eq(one, client));
        self.ended.notify_all();
    }

    /// Closes who takes too long to say what it wants.
    pub(super) fn compact(&self, now: Instant) {
        let open = self.lock();
        let dawdles =
            |one: &&Arc<Client>| !one.is_ready.load(Ordering::Relaxed) && now.saturating_duration_since(one.began) > HANDSHAKE;
        open.iter().filter(dawdles).for_each(|one| (one.close)());
    }

    /// Closes who has been silent the longest, if that is long: somebody waits.
    pub(super) fn make_room(&self, now: Instant) {
        let open = self.lock();
        let silent = open.iter().min_by_key(|one| one.heard());
        if let Some(silent) = silent.filter(|one| now.saturating_duration_since(one.heard()) > SILENT) {
            (silent.close)();
        }
    }

    /// Waits until there is room for one more, or for so long. Says whether there is.
    pub(super) fn wait_for_room(&self, time: Duration) -> bool {
        let waited = self.ended.wait_timeout_while(self.lock(), time, |open| open.len() >= MOST);
        waited.unwrap_or_else(PoisonError::into_inner).0.len() < MOST
    }

    fn lock(&self) -> MutexGuard<'_, Vec<Arc<Client>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicUsize;

    use super::*;

    fn full() -> (Sessions, Instant, Arc<AtomicUsize>, Vec<Arc<Client>>) {
        let (sessions, now, closed) = (Sessions::default(), Instant::now(), Arc::new(AtomicUsize::new(0)));
        let begin = |_| {
            let closed = Arc::clone(&closed);
            sessions.begin(now, move || {
                closed.fetch_add(1, Ordering::Relaxed);
            })
        };
        let clients = (0..MOST).map(begin).collect();
        (sessions, now, closed, clients)
    }

    #[test]
    fn who_never_says_what_it_wants_is_closed_and_who_does_is_not() {
        let (sessions, now, closed, clients) = full();
        clients[3].is_ready();
        sessions.compact(now + HANDSHAKE);
        assert_eq!(closed.load(Ordering::Relaxed), 0);
        sessions.compact(now + HANDSHAKE + Duration::from_millis(1));
        assert_eq!(closed.load(Ordering::Relaxed), MOST - 1);
    }

    #[test]
    fn whoever_waits_gets_the_place_of_one_that_was_silent_for_long() {
        let (sessions, now, closed, clients) = full();
        clients.iter().for_each(|client| client.is_ready());
        assert!(!sessions.wait_for_room(Duration::ZERO));
        sessions.make_room(now + SILENT);
        assert_eq!(closed.load(Ordering::Relaxed), 0, "nobody was silent for long");
        sessions.make_room(now + SILENT + Duration::from_secs(1));
        assert_eq!(closed.load(Ordering::Relaxed), 1, "one place is enough");
        sessions.end(&clients[0]);
        assert!(sessions.wait_for_room(Duration::ZERO));
    }
}
