//! Sending no faster than the office allows.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::sleep;
use std::time::{Duration, Instant};

use bytes::Bytes;
use jetfrost_types::RateLimit;

/// Bytes are let go in pieces of this many, so that they flow rather than come in bursts.
const PIECE: usize = 32 << 10;

/// Lets so many bytes a second go, of all that share it.
#[derive(Debug)]
pub(crate) struct Throttle {
    limit: RateLimit,
    /// The minute of the day, by the machine's local time.
    minute: fn() -> u16,
    /// When the next bytes may go.
    next: Mutex<Instant>,
}

impl Throttle {
    pub(crate) fn new(limit: RateLimit, minute: fn() -> u16) -> Self {
        Self { limit, minute, next: Mutex::new(Instant::now()) }
    }

    /// Whether anything is to be kept back, at whatever time.
    pub(crate) fn is_limited(&self) -> bool {
        self.limit != RateLimit::Unlimited
    }

    /// How long these bytes have to wait.
    fn wait_for(&self, bytes: usize, now: Instant) -> Duration {
        let Some(rate) = self.limit.at((self.minute)()) else { return Duration::ZERO };
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        // Time in which nothing was sent is not made up for.
        let start = (*next).max(now);
        *next = start + Duration::from_secs_f64(bytes as f64 / rate.bytes_per_second() as f64);
        start - now
    }
}

/// Bytes that are read no faster than they may be sent.
pub(crate) struct Throttled {
    pub(crate) bytes: Bytes,
    pub(crate) throttle: Arc<Throttle>,
}

impl Read for Throttled {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let piece = self.bytes.split_to(into.len().min(PIECE).min(self.bytes.len()));
        sleep(self.throttle.wait_for(piece.len(), Instant::now()));
        into[..piece.len()].copy_from_slice(&piece);
        Ok(piece.len())
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{Rate, TimeOfDay};
    use proptest::prelude::*;

    use super::*;

    fn limited(rate: u64, hours: &str) -> RateLimit {
        let hours: TimeOfDay = hours.parse().expect("hours");
        RateLimit::Limited { bytes_per_second: Rate::new(rate).expect("enough"), hours }
    }

    #[test]
    fn at_other_hours_nothing_waits() {
        let night = Throttle::new(limited(Rate::LEAST, "22:00-06:00"), || 12 * 60);
        let now = Instant::now();
        assert_eq!((0..100).map(|_| night.wait_for(PIECE, now)).max(), Some(Duration::ZERO));
        assert!(night.is_limited() && !Throttle::new(RateLimit::Unlimited, || 0).is_limited());
    }

    proptest! {
        #[test]
        fn over_any_time_no_more_goes_than_the_rate_and_a_piece(
            rate in Rate::LEAST..1_000_000_000,
            pieces in proptest::collection::vec((1..=PIECE, 0..2_000_u64), 1..100),
        ) {
            let throttle = Throttle::new(limited(rate, "always"), || 0);
            let start = Instant::now();
            let (mut now, mut gone) = (start, 0_usize);
            for (bytes, pause) in pieces {
                now += Duration::from_millis(pause);
                now += throttle.wait_for(bytes, now);
                let allowed = (now - start).as_secs_f64() * rate as f64;
                prop_assert!(gone as f64 <= allowed + 1.0, "{gone} bytes, {allowed} allowed");
                gone += bytes;
            }
        }
    }

    #[test]
    fn what_is_throttled_arrives_whole() {
        let bytes = Bytes::from((0..200_000).map(|n| (n % 251) as u8).collect::<Vec<u8>>());
        let throttle = Arc::new(Throttle::new(limited(1_000_000_000, "always"), || 0));
        let mut read = Vec::new();
        Throttled { bytes: bytes.clone(), throttle }.read_to_end(&mut read).expect("read");
        assert_eq!(read, bytes);
    }
}
