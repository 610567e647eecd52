//! Whether new backups and restores are accepted.

use std::sync::Arc;

use jetfrost_wire::service::{Maintenance, NewBackups};

use crate::clock::{Clock, Moment, timestamp};
use crate::records::{Accepting, Records, Switches};
use crate::shared::{Result, ServiceError, Traffic};

/// What the switches say now: a pause ends by itself.
pub(crate) fn now(switches: &Switches, now: Moment) -> Maintenance {
    let backups = match (switches.new_backups.0, switches.paused_until) {
        (Accepting::Paused, Some(until)) if until > now => NewBackups::Paused { until: timestamp(until) },
        (Accepting::On, _) | (Accepting::Paused, Some(_)) => NewBackups::On,
        // A pause without an end is one until somebody ends it.
        (Accepting::Off, _) | (Accepting::Paused, None) => NewBackups::Off,
    };
    Maintenance { backups, restores: !switches.restores_stopped }
}

/// Whether new backups and restores are accepted.
pub(crate) struct Gate {
    records: Records,
    clock: Arc<dyn Clock>,
}

impl Gate {
    pub(crate) fn new(records: Records, clock: Arc<dyn Clock>) -> Self {
        Self { records, clock }
    }

    /// Refuses while new backups are paused.
    pub(crate) fn check_backups(&self) -> Result<()> {
        let now = self.clock.now();
        let switches = self.records.read(|on| Ok::<_, ServiceError>(Switches::get(on)?))?;
        match self::now(&switches, now).backups {
            NewBackups::On => Ok(()),
            NewBackups::Paused { until } => {
                let until = Moment::from(until);
                let wait = u64::try_from(until - now).unwrap_or(0).div_ceil(1000).max(1);
                Err(ServiceError::Paused { what: Traffic::Backups, until: Some((until, wait)) })
            }
            NewBackups::Off => Err(ServiceError::Paused { what: Traffic::Backups, until: None }),
        }
    }

    /// Refuses while restores are paused.
    pub(crate) fn check_restores(&self) -> Result<()> {
        let switches = self.records.read(|on| Ok::<_, ServiceError>(Switches::get(on)?))?;
        if switches.restores_stopped { Err(ServiceError::Paused { what: Traffic::Restores, until: None }) } else { Ok(()) }
    }
}
