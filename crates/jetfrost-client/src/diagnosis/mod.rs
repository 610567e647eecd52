//! Why a backup would fail, or be late: everything that it needs, tried in order, up to the first that explains the rest.
//!
//! Nothing stays behind, neither here nor at the service, so it may be repeated at will. What is found can be told to the service
//! ([`send_or_keep`]), which learns no name of a file of this machine.

mod here;
mod network;
mod service;

use std::thread;
use std::time::{Duration, Instant};

use jetfrost_wire::calls;
use jetfrost_wire::diagnosis::{Diagnosis, DiagnosisStep, MOST_STEPS};
use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::workstation::Workstation;

use crate::api::Api;
use crate::discovery::{FoundService, look};
use crate::error::ClientError;
use crate::state_dir::{Membership, StateDir};

/// Services announce themselves several times within this.
const LOOKING: Duration = Duration::from_secs(3);

/// What to do about something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// What was found, in a sentence.
    pub says: String,
    /// What to do.
    pub next: String,
    /// Whose move it is.
    pub whose_move: WhoseMove,
}

impl Advice {
    fn to(whose_move: WhoseMove, says: impl Into<String>, next: impl Into<String>) -> Self {
        Self { says: says.into(), next: next.into(), whose_move }
    }
}

/// What a step came to.
#[derive(Debug)]
pub enum Found {
    /// It is as it must be; how it is, in a sentence.
    Passed(String),
    /// Backups can be made, but this should be looked at.
    Noticed(Advice),
    /// This keeps backups from being made.
    InTheWay(Advice),
    /// So does this error.
    Failed(ClientError),
}

impl From<ClientError> for Found {
    fn from(error: ClientError) -> Self {
        Self::Failed(error)
    }
}

impl Found {
    /// Whether it explains why backups are not made.
    #[must_use]
    pub fn is_in_the_way(&self) -> bool {
        matches!(self, Self::InTheWay(_) | Self::Failed(_))
    }
}

/// A step and what it came to.
#[derive(Debug)]
pub struct Finding {
    /// Which.
    pub step: DiagnosisStep,
    /// How long it took.
    pub took: Duration,
    /// What it came to.
    pub found: Found,
    /// What belongs to it and may name files of this machine: the service is not told.
    pub details: Vec<String>,
}

/// What was found.
#[derive(Debug, Default)]
pub struct Findings {
    /// By step, in order. The last explains the rest if it is in the way.
    pub steps: Vec<Finding>,
    /// Bytes that the service would take now, if that was found out.
    pub room: Option<u64>,
}

impl Findings {
    /// Whether nothing is in the way of a backup.
    #[must_use]
    pub fn are_well(&self) -> bool {
        !self.steps.iter().any(|finding| finding.found.is_in_the_way())
    }
}

/// What a step learned for those that follow, and what it came to; or what is in the way.
type Tried<T> = Result<(T, Found), Found>;

/// Finds out why a backup would fail. `each` is shown every finding as it is made.
pub fn diagnose(state_dir: &StateDir, each: &mut dyn FnMut(&Finding)) -> Findings {
    let mut diagnosing = Diagnosing { state_dir, each, found: Findings::default() };
    let _ = diagnosing.all();
    diagnosing.found
}

struct Diagnosing<'d> {
    state_dir: &'d StateDir,
    each: &'d mut dyn FnMut(&Finding),
    found: Findings,
}

impl Diagnosing<'_> {
    /// All steps, in order; none when one is in the way.
    fn all(&mut self) -> Option<()> {
        let state_dir = self.state_dir;
        let membership = self.step(DiagnosisStep::Joined, || here::joined(state_dir))?;
        let (own, api) = self.reach(&membership)?;
        let workstation = self.step(DiagnosisStep::Credential, || service::credential(&api, &membership))?;
        self.ask_service(&api, &membership)?;
        let rate = self.step(DiagnosisStep::RoundTrip, || service::round_trip(&api, &membership))?;
        self.step(DiagnosisStep::History, || service::history(state_dir, &workstation))?;
        self.step(DiagnosisStep::Keys, || here::keys(state_dir, &membership))?;
        let selection = self.sources()?;
        let room = self.found.room;
        let first = self.step(DiagnosisStep::Room, || here::room(state_dir, &api, &workstation, &selection, room))?;
        self.step(DiagnosisStep::Network, || here::network(own, first, rate))?;
        self.agent()?;
        self.step(DiagnosisStep::Drill, || service::drill(&workstation))?;
        self.step(DiagnosisStep::Proof, || service::proof(&workstation))
    }

    /// From the name of the service to its identity. Meanwhile it is looked for nearby.
    fn reach(&mut self, membership: &Membership) -> Option<(std::net::IpAddr, Api)> {
        let state_dir = self.state_dir;
        let looking = thread::spawn(|| look(LOOKING, &[]).unwrap_or_default());
        let mut nearby = Nearby::Looking(Some(looking));
        let addresses = self.step(DiagnosisStep::Name, || {
            network::name(&membership.address).map_err(|found| nearby.suggest(membership, found))
        })?;
        self.step(DiagnosisStep::Discovery, || Ok(((), network::discovery(membership, nearby.services()))))?;
        let own = self.step(DiagnosisStep::Port, || {
            network::port(&membership.address, &addresses).map_err(|found| nearby.suggest(membership, found))
        })?;
        let (api, clock) = self.step(DiagnosisStep::Identity, || network::identity(state_dir))?;
        self.step(DiagnosisStep::Clock, || network::clock(&clock))?;
        Some((own, api))
    }

    /// What the service finds when it tries for this workstation.
    fn ask_service(&mut self, api: &Api, membership: &Membership) -> Option<()> {
        let began = Instant::now();
        let asked: Result<Diagnosis, ClientError> = api.call(&calls::diagnose_own(&membership.workstation));
        let diagnosis = match asked {
            Ok(diagnosis) => diagnosis,
            Err(error) => return self.put(DiagnosisStep::Account, began, Err(error.into())),
        };
        self.found.room = diagnosis.room;
        // A service may tell of steps without end.
        for line in diagnosis.steps.into_iter().take(MOST_STEPS) {
            let step = line.step;
            self.put(step, began, service::as_found(line))?;
        }
        Some(())
    }

    fn sources(&mut self) -> Option<crate::selection::Selection> {
        let (began, mut missing) = (Instant::now(), Vec::new());
        let tried = here::sources(self.state_dir, &mut missing);
        self.put_with(DiagnosisStep::Sources, began, tried, missing)
    }

    fn agent(&mut self) -> Option<()> {
        let (began, mut details) = (Instant::now(), Vec::new());
        let tried = here::agent(self.state_dir, &mut details);
        self.put_with(DiagnosisStep::Agent, began, tried, details)
    }

    fn step<T>(&mut self, step: DiagnosisStep, work: impl FnOnce() -> Tried<T>) -> Option<T> {
        let began = Instant::now();
        let tried = work();
        self.put(step, began, tried)
    }

    fn put<T>(&mut self, step: DiagnosisStep, began: Instant, tried: Tried<T>) -> Option<T> {
        self.put_with(step, began, tried, Vec::new())
    }

    fn put_with<T>(&mut self, step: DiagnosisStep, began: Instant, tried: Tried<T>, details: Vec<String>) -> Option<T> {
        let (value, found) = match tried {
            Ok((value, found)) => (Some(value), found),
            Err(found) => (None, found),
        };
        let finding = Finding { step, took: began.elapsed(), found, details };
        (self.each)(&finding);
        self.found.steps.push(finding);
        value
    }
}

/// Services nearby, once somebody wants to know.
enum Nearby {
    Looking(Option<thread::JoinHandle<Vec<FoundService>>>),
    Found(Vec<FoundService>),
}

impl Nearby {
    fn services(&mut self) -> &[FoundService] {
        if let Self::Looking(looking) = self {
            let found = looking.take().and_then(|looking| looking.join().ok());
            *self = Self::Found(found.unwrap_or_default());
        }
        match self {
            Self::Found(services) => services,
            Self::Looking(_) => &[],
        }
    }

    /// What is in the way; where the service was found elsewhere, how to go there.
    fn suggest(&mut self, membership: &Membership, found: Found) -> Found {
        let Found::InTheWay(mut advice) = found else { return found };
        let elsewhere = self.services().iter().find(|one| one.fingerprint == membership.fingerprint);
        if let Some(one) = elsewhere.filter(|one| one.address != membership.address) {
            advice.next = format!("The service was found at {}. Go there: jetfrost accept-address {}", one.address, one.address);
            advice.whose_move = WhoseMove::Workstation;
        }
        Found::InTheWay(advice)
    }
}

/// What became of findings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sent {
    /// The service has them.
    Told,
    /// They are kept until the agent reaches the service.
    Kept,
    /// There is no service to tell.
    ToNobody,
}

/// Tells the service what was found. Where that cannot be, it is kept until the agent can.
///
/// # Errors
/// When it cannot be kept either.
pub fn send_or_keep(state_dir: &StateDir, found: &Diagnosis) -> Result<Sent, ClientError> {
    match state_dir.device_api().and_then(|(membership, api)| send(&api, &membership, found)) {
        Ok(()) => state_dir.forget_diagnosis().map(|()| Sent::Told),
        Err(ClientError::NotJoined) => Ok(Sent::ToNobody),
        Err(_) => state_dir.keep_diagnosis(found).map(|()| Sent::Kept),
    }
}

/// Tells the service what was kept for it, if anything was.
///
/// # Errors
/// What the service or the network said.
pub(crate) fn send_kept(state_dir: &StateDir, api: &Api, membership: &Membership) -> Result<(), ClientError> {
    let Some(kept) = state_dir.kept_diagnosis() else { return Ok(()) };
    match send(api, membership, &kept) {
        Err(error) if error.is_passing() => Err(error),
        // What is refused for good is not sent again and again.
        Ok(()) | Err(_) => state_dir.forget_diagnosis(),
    }
}

fn send(api: &Api, membership: &Membership, found: &Diagnosis) -> Result<(), ClientError> {
    api.call_with(&calls::keep_diagnosis(&membership.workstation), found).map(drop)
}

/// Whether a workstation is yet to make its first point.
fn is_new(workstation: &Workstation) -> bool {
    workstation.latest_point.is_none()
}
