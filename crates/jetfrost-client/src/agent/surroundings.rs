//! What an agent sees and does outside itself. Tests give it another world.

use std::io;
use std::sync::Arc;

use jetfrost_platform::{Power, System};
use jetfrost_wire::calls;
use jetfrost_wire::workstation::{AgentReport, AgentState, PointKind};
use jiff::{Timestamp, Zoned};

use crate::backup::{BackupReport, ReadBack, back_up};
use crate::browse::{At, Browser};
use crate::drill::{Rehearsal, drill};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::state_dir::StateDir;

/// What the service knows of this workstation.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Known {
    /// When it committed the latest point.
    pub completed: Option<Timestamp>,
    /// When a drill last restored everything.
    pub drilled: Option<Timestamp>,
}

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

    /// Asks the service what it knows of this workstation.
    ///
    /// # Errors
    /// [`ClientError`] says what is in the way.
    fn known(&self) -> Result<Known, ClientError>;

    /// Tells the service how the agent is. Returns what is on record there.
    ///
    /// # Errors
    /// [`ClientError`] says what is in the way.
    fn report(&self, report: &AgentReport) -> Result<AgentState, ClientError>;

    /// Makes a point of everything that is included.
    ///
    /// # Errors
    /// As [`back_up`] has them.
    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError>;

    /// Rehearses a restore of the latest point and puts it on record.
    ///
    /// # Errors
    /// As [`drill`] has them.
    fn drill(&self, meter: &Arc<Meter>) -> Result<(), ClientError>;
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

    fn known(&self) -> Result<Known, ClientError> {
        let (membership, api) = self.0.device_api()?;
        let workstation = api.call(&calls::workstation(&membership.workstation))?;
        let completed = workstation.latest_point.map(|point| point.committed);
        Ok(Known { completed, drilled: workstation.store.drilled })
    }

    fn report(&self, report: &AgentReport) -> Result<AgentState, ClientError> {
        let (membership, api) = self.0.device_api()?;
        api.call_with(&calls::report_agent(&membership.workstation), report)
    }

    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError> {
        let mut kinds = self.0.selection()?.kinds();
        if kinds.is_empty() {
            // The engine says what is missing.
            kinds.push(PointKind::Files);
        }
        kinds.into_iter().map(|kind| back_up(&self.0, kind, ReadBack::Sample, meter)).collect()
    }

    fn drill(&self, meter: &Arc<Meter>) -> Result<(), ClientError> {
        let browser = Browser::open(&self.0)?;
        let point = browser.point(&At::Latest, PointKind::Files)?;
        drill(&browser, &point, &Rehearsal::usual(self.0.directory()), meter).map(drop)
    }
}
