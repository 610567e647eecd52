//! Hearing of changes at the service: a connection that is open for as long as it lasts, and is made anew after a while.

use std::thread::sleep;
use std::time::Duration;

use jetfrost_types::WorkstationId;
use jetfrost_wire::event::Event;

use crate::error::ClientError;
use crate::state_dir::StateDir;

/// After a connection broke, the next one is made after this at the earliest and this at the latest: all agents of an office lose theirs
/// in the same second when the service restarts.
const AGAIN: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(35));
/// What concerns many workstations is asked about within this.
const FOR_MANY: Duration = Duration::from_secs(3);
/// What comes faster is heard together: a service that goes wrong must not keep the machine busy.
const AT_MOST_EVERY: Duration = Duration::from_secs(1);

/// What may have changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum News {
    /// Anything: it was not heard for a while.
    Anything,
    /// Something about the workstation.
    Workstation,
    /// Its orders.
    Orders,
}

/// Listens, and calls `heard` when something may have changed for this workstation, until that says that nobody needs it any more.
pub(super) fn listen(state_dir: &StateDir, spread: u64, heard: &dyn Fn(News) -> bool) {
    loop {
        if matches!(once(state_dir, spread, heard), Ok(Heard::Enough)) {
            return;
        }
        sleep(AGAIN.0 + share(spread, AGAIN.1 - AGAIN.0));
    }
}

/// How listening ended.
enum Heard {
    /// Nobody needs it any more.
    Enough,
    /// The connection did.
    Broken,
}

fn once(state_dir: &StateDir, spread: u64, heard: &dyn Fn(News) -> bool) -> Result<Heard, ClientError> {
    let (membership, api) = state_dir.device_api()?;
    let own = WorkstationId(membership.workstation.to_string());
    let mut enough = false;
    api.listen(|event| {
        let news = match event {
            // Whatever was missed before the connection counts as heard.
            None => News::Anything,
            Some(Event::Workstation { workstation }) if workstation == own => News::Workstation,
            Some(Event::Orders { workstation }) if workstation == own => News::Orders,
            Some(Event::Schedules) => {
                sleep(share(spread, FOR_MANY));
                News::Workstation
            }
            // Its own runs and restores are nothing new to it.
            Some(_) => return true,
        };
        enough = !heard(news);
        if !enough {
            sleep(AT_MOST_EVERY);
        }
        !enough
    })?;
    Ok(if enough { Heard::Enough } else { Heard::Broken })
}

fn share(spread: u64, most: Duration) -> Duration {
    let ms = u64::try_from(most.as_millis()).unwrap_or(u64::MAX).max(1);
    Duration::from_millis(spread % ms)
}
