//! Orders are carried out beside everything else that an agent does: whoever waits for a file does not wait for a backup.

use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use jetfrost_image::OrderId;
use jetfrost_wire::run::Progress;

use super::{Agent, Surroundings};
use crate::error::ClientError;
use crate::progress::Meter;

/// What could not be seen to is tried again after this.
const AGAIN: Duration = Duration::from_secs(60);

/// What an agent does with orders.
#[derive(Default)]
pub(super) struct Orders {
    /// Whether there may be something to do.
    pub(super) is_due: bool,
    /// Why they could not be seen to the last time.
    pub(super) trouble: Option<String>,
    underway: Option<(OrderId, Arc<Meter>)>,
}

impl Orders {
    /// How far the one is that is being carried out.
    pub(super) fn progress(&self) -> Option<Progress> {
        self.underway.as_ref().map(|(_, meter)| meter.progress())
    }

    /// Stops the one that is being carried out; it goes on when an agent runs again.
    pub(super) fn stop(&self) {
        self.underway.iter().for_each(|(_, meter)| meter.stop());
    }

    /// Cancels it for good, if it is to be.
    pub(super) fn cancel_if(&self, is_declined: impl Fn(&OrderId) -> bool) {
        for (_, meter) in self.underway.iter().filter(|(order, _)| is_declined(order)) {
            meter.cancel("the workstation".into());
        }
    }
}

impl<S: Surroundings> Agent<S> {
    /// Sees to the orders whenever there may be some, until the agent ends.
    pub(super) fn see_to_orders(&self) {
        let mut again = Some(Instant::now());
        while self.wait_for_orders(again) {
            let seen_to = self.world.see_to_orders(&|order, meter| {
                let mut shared = self.lock();
                shared.orders.underway = Some((order, Arc::clone(meter)));
                // Whoever ended the agent just before found nothing to stop. What was declined is not begun.
                if shared.ended {
                    meter.stop();
                }
            });
            let mut shared = self.lock();
            shared.orders.underway = None;
            shared.orders.trouble = match &seen_to {
                Ok(()) | Err(ClientError::Stopped) => None,
                Err(error) => Some(error.to_string()),
            };
            again = seen_to.is_err().then(|| Instant::now() + AGAIN);
        }
    }

    /// Waits until there may be orders, or it is time to try again. False when the agent ends.
    fn wait_for_orders(&self, again: Option<Instant>) -> bool {
        let mut shared = self.lock();
        loop {
            if shared.ended {
                return false;
            }
            let left = again.map(|at| at.saturating_duration_since(Instant::now()));
            if std::mem::take(&mut shared.orders.is_due) || left.is_some_and(|left| left.is_zero()) {
                return true;
            }
            let wait = left.unwrap_or(Duration::MAX);
            let waited = self.state.changed.wait_timeout(shared, wait.min(Duration::from_secs(3600)));
            shared = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }
}
