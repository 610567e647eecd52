//! What an agent sees and does outside itself. Tests give it another world.

use std::io;
use std::sync::Arc;

use jetfrost_platform::{Power, System};
use jetfrost_wire::calls;
use jetfrost_wire::workstation::PointKind;
use jiff::{Timestamp, Zoned};

use crate::backup::{BackupReport, ReadBack, back_up};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::state_dir::StateDir;

/// The world of an agent.
pub trait Surroundings: Sync {
    /// The machine's clock.
    fn now(&self) -> Timestamp;

    /// The minute of the day, by the machine's local time.
    fn minute(&self) -> u16;

    /// Whether the machine runs on battery.
    ///
    /// # Errors
    /// What the system says.
    fn on_battery(&self) -> io::Result<bool>;

    /// Asks the service when it committed this workstation's latest point.
    ///
    /// # Errors
    /// [`ClientError`] says what is in the way.
    fn last_point(&self) -> Result<Option<Timestamp>, ClientError>;

    /// Makes a point of everything that is included.
    ///
    /// # Errors
    /// As [`back_up`] has them.
    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError>;
}

/// This machine and its service.
#[derive(Debug)]
pub struct ThisMachine(pub StateDir);

impl Surroundings for ThisMachine {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    fn minute(&self) -> u16 {
        let now = Zoned::now();
        u16::from(now.hour().unsigned_abs()) * 60 + u16::from(now.minute().unsigned_abs())
    }

    fn on_battery(&self) -> io::Result<bool> {
        System::on_battery()
    }

    fn last_point(&self) -> Result<Option<Timestamp>, ClientError> {
        let (membership, api) = self.0.device_api()?;
        let workstation = api.call(&calls::workstation(&membership.workstation))?;
        Ok(workstation.latest_point.map(|point| point.committed))
    }

    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError> {
        let mut kinds = self.0.selection()?.kinds();
        if kinds.is_empty() {
            // The engine says what is missing.
            kinds.push(PointKind::Files);
        }
        kinds.into_iter().map(|kind| back_up(&self.0, kind, ReadBack::Sample, meter)).collect()
    }
}
