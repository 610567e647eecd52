//! What an agent sees and does outside itself. Tests give it another world.

use std::fmt;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, ToSocketAddrs, UdpSocket};
use std::sync::Arc;

use jetfrost_image::OrderId;
use jetfrost_platform::{Accounts, Machine, Network, Notices, Power, Priority, System};
use jetfrost_types::Suspicion;
use jetfrost_wire::calls;
use jetfrost_wire::diagnosis::Diagnosis;
use jetfrost_wire::schedule::AppliedSchedule;
use jetfrost_wire::workstation::{AgentReport, AgentState, PointKind};
use jiff::Timestamp;

use crate::agent::change_tracker::ChangeTracker;
use crate::agent::listening::{News, listen};
use crate::agent::record::Suspect;
use crate::backup::{BackupReport, ReadBack, back_up_unless_queued};
use crate::browse::{At, Browser};
use crate::catalogue::Catalogue;
use crate::clock::minute_of_day;
use crate::diagnosis::{Findings, diagnose, send_kept, send_or_keep};
use crate::drill::{Rehearsal, drill, drill_disks};
use crate::error::ClientError;
use crate::join::{find_again, go_back};
use crate::orders;
use crate::progress::Meter;
use crate::state_dir::StateDir;

/// What the service knows of this workstation.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Known {
    /// The service's clock when it answered.
    pub now: Timestamp,
    /// When it committed the latest point.
    pub completed: Option<Timestamp>,
    /// When a drill last restored everything.
    pub drilled: Option<Timestamp>,
    /// The schedule that holds.
    pub schedule: AppliedSchedule,
    /// Until when an administrator paused this workstation.
    pub paused_until: Option<Timestamp>,
    /// When an administrator asked for a backup that has not begun.
    pub asked: Option<Timestamp>,
    /// A point that may hold what an incident left, until somebody says that it does not.
    pub suspect: Option<Suspect>,
}

/// Listens to the service for as long as the process lives, and calls what it is given whenever something may have changed; ends when that
/// says that nobody needs it any more.
pub type Listener = Box<dyn FnOnce(&dyn Fn(News) -> bool) + Send>;

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

    /// Whether what goes to the service is paid by the byte. One that does not say so is not.
    fn is_metered(&self) -> bool;

    /// Work that wants a processor, in percent of what all of them can do, over the last minute; none where the system does not say.
    fn load_percent(&self) -> Option<u32>;

    /// Asks the service what it knows of this workstation.
    ///
    /// # Errors
    /// [`ClientError`] says what is in the way.
    fn known(&self) -> Result<Known, ClientError>;

    /// What listens to the service. `spread` keeps this workstation at a distance to others.
    fn listener(&self, spread: u64) -> Listener;

    /// Lets the calling thread, and those that it starts, yield to all other work of the machine.
    fn yield_to_others(&self);

    /// Tells the service how the agent is. Returns what is on record there.
    ///
    /// # Errors
    /// [`ClientError`] says what is in the way.
    fn report(&self, report: &AgentReport) -> Result<AgentState, ClientError>;

    /// Makes a point of everything that is included.
    ///
    /// # Errors
    /// As [`back_up_unless_queued`] has them.
    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError>;

    /// Looks for a service that does not answer where it was. Says whether it is elsewhere now.
    fn seek(&self) -> bool;

    /// Goes back to the address that a person gave, if the service was followed to another and answers there again.
    fn go_back(&self);

    /// Finds out why backups are not made, and tells the service.
    fn diagnose(&self);

    /// Tells the people at this machine that a point is suspect. Says whether anybody was told.
    fn tell_of_suspect(&self, suspect: &Suspect) -> bool;

    /// Rehearses a restore of the latest point and puts it on record.
    ///
    /// # Errors
    /// As [`drill`] has them.
    fn drill(&self, meter: &Arc<Meter>) -> Result<(), ClientError>;

    /// Does with the orders of this workstation what is to be done. `underway` is told of each that is carried out.
    ///
    /// # Errors
    /// What makes it worth another try; [`ClientError::Stopped`].
    fn see_to_orders(&self, underway: &dyn Fn(OrderId, &Arc<Meter>)) -> Result<(), ClientError>;

    /// Whether somebody at this workstation declined an order.
    fn is_declined(&self, order: &OrderId) -> bool;
}

/// What whoever sits at the machine is to do about a suspect point.
const SUSPECT: &str = "If you did not do that on purpose, disconnect this computer from the network and tell your administrator. Earlier \
                       points are kept. See: jetfrost points";

/// This machine and its service.
pub struct ThisMachine {
    /// Where it keeps what makes it a workstation.
    pub state_dir: StateDir,
    /// Findings in the words that the service is told.
    pub as_told: fn(&Findings) -> Diagnosis,
    changes: ChangeTracker,
}

impl ThisMachine {
    /// The machine of a state directory.
    #[must_use]
    pub fn new(state_dir: StateDir, as_told: fn(&Findings) -> Diagnosis) -> Self {
        Self { state_dir, as_told, changes: ChangeTracker::new(System::is_administrator()) }
    }

    /// Learns of changes as an account that may not watch whole volumes does.
    #[must_use]
    pub fn watching_single_folders(self) -> Self {
        Self { changes: ChangeTracker::new(false), ..self }
    }

    /// Brings the catalogue of names up to date, so that a search need not wait for that. Where it cannot be, the search says why.
    fn catalogue_names(&self) {
        let _ = Browser::open(&self.state_dir)
            .and_then(|browser| Catalogue::bring_up_to_date(&browser, &self.state_dir, &Meter::default()));
    }
}

impl fmt::Debug for ThisMachine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ThisMachine").field("state_dir", &self.state_dir).finish_non_exhaustive()
    }
}

impl Surroundings for ThisMachine {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    fn minute(&self) -> u16 {
        minute_of_day()
    }

    fn on_battery(&self) -> io::Result<bool> {
        System::on_battery()
    }

    fn is_metered(&self) -> bool {
        let way = self.state_dir.membership().ok().and_then(|membership| own_address_towards(&membership.address).ok());
        way.is_some_and(|own| System::is_metered(own).unwrap_or(false))
    }

    fn load_percent(&self) -> Option<u32> {
        System::load_percent()
    }

    fn known(&self) -> Result<Known, ClientError> {
        let (membership, api) = self.state_dir.device_api()?;
        let workstation = api.call_once(&calls::workstation(&membership.workstation))?;
        let now = api.call_once(&calls::service_info())?.now;
        let completed = workstation.latest_point.map(|point| point.committed);
        Ok(Known {
            now,
            completed,
            drilled: workstation.store.drilled,
            schedule: workstation.schedule,
            paused_until: workstation.paused.map(|paused| paused.until),
            asked: workstation.asked.map(|asked| asked.at),
            suspect: workstation.store.suspect.map(|suspect| Suspect::of(&suspect.point)),
        })
    }

    fn listener(&self, spread: u64) -> Listener {
        let state_dir = self.state_dir.clone();
        Box::new(move |heard| listen(&state_dir, spread, heard))
    }

    fn yield_to_others(&self) {
        // Where it cannot be, backups are made all the same.
        let _ = System::yield_to_others();
    }

    fn report(&self, report: &AgentReport) -> Result<AgentState, ClientError> {
        let (membership, api) = self.state_dir.device_api()?;
        // One that is not taken must not keep the report from being made.
        let _ = send_kept(&self.state_dir, &api, &membership);
        api.call_with(&calls::report_agent(&membership.workstation), report)
    }

    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError> {
        let selection = self.state_dir.selection()?;
        let mut kinds = selection.kinds();
        if kinds.is_empty() {
            // The engine says what is missing.
            kinds.push(PointKind::Files);
        }
        let (mut reports, mut missing) = (Vec::new(), None);
        for kind in kinds {
            let made = match kind {
                PointKind::Files => {
                    let hints = self.changes.begin(&selection, self.now());
                    let made = back_up_unless_queued(&self.state_dir, kind, ReadBack::Sample, hints.as_ref(), meter);
                    self.changes.end(made.as_ref().ok().map(|report| (report.point_id.as_str(), report.looked)));
                    made
                }
                PointKind::Disk => back_up_unless_queued(&self.state_dir, kind, ReadBack::Sample, None, meter),
            };
            match made {
                Ok(report) => reports.push(report),
                // Disks are backed up although no folder is there, and the other way round.
                Err(error @ ClientError::NothingThere(_)) => missing = Some(error),
                Err(error) => return Err(error),
            }
        }
        if reports.iter().any(|report| report.point.kind == PointKind::Files) {
            self.catalogue_names();
        }
        missing.map_or(Ok(reports), Err)
    }

    fn seek(&self) -> bool {
        find_again(&self.state_dir).is_ok_and(|found| found.is_some())
    }

    fn go_back(&self) {
        // What does not answer there is where it is.
        let _ = go_back(&self.state_dir);
    }

    fn diagnose(&self) {
        let found = diagnose(&self.state_dir, &mut |_| {});
        // Where it can be neither told nor kept, the run's own error has been.
        let _ = send_or_keep(&self.state_dir, &(self.as_told)(&found));
    }

    fn tell_of_suspect(&self, suspect: &Suspect) -> bool {
        let what = suspect.suspicion.map_or("was marked suspect", Suspicion::in_words);
        let title = format!("Recovery point {} of this computer {what}", suspect.sequence);
        System::show_notice(&title, SUSPECT).is_ok_and(|shown| shown > 0)
    }

    fn drill(&self, meter: &Arc<Meter>) -> Result<(), ClientError> {
        let browser = Browser::open(&self.state_dir)?;
        let how = Rehearsal::usual(self.state_dir.directory());
        let latest = |kind| match browser.point(&At::Latest, kind) {
            Err(ClientError::NoPoint(_)) => Ok(None),
            other => other.map(Some),
        };
        let (files, disks) = (latest(PointKind::Files)?, latest(PointKind::Disk)?);
        if let Some(point) = &files {
            drill(&browser, point, &how, meter).map(drop)?;
        }
        match &disks {
            Some(point) => drill_disks(&browser, point, &how, meter).map(drop),
            None if files.is_none() => Err(ClientError::NoPoint("yet".into())),
            None => Ok(()),
        }
    }

    fn see_to_orders(&self, underway: &dyn Fn(OrderId, &Arc<Meter>)) -> Result<(), ClientError> {
        orders::see_to(&self.state_dir, underway)
    }

    fn is_declined(&self, order: &OrderId) -> bool {
        orders::is_declined(&self.state_dir, order)
    }
}

/// This machine's address on the way to an address. Nothing is sent: a datagram socket only looks the way up.
fn own_address_towards(address: &str) -> io::Result<IpAddr> {
    let look_up = |to: SocketAddr| {
        let any: IpAddr = if to.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let socket = UdpSocket::bind((any, 0))?;
        socket.connect(to)?;
        Ok(socket.local_addr()?.ip())
    };
    let nowhere = Err(io::Error::from(io::ErrorKind::NotFound));
    address.to_socket_addrs()?.map(look_up).reduce(Result::or).unwrap_or(nowhere)
}
