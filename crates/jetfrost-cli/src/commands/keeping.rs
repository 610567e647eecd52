//! What an administrator sets, holds, removes and brings back, and the long work that follows.

use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::api::{Api, Method};
use jetfrost_client::home::Home;
use jetfrost_wire::job::{Job as JobRecord, JobOrder, JobState, Order};
use jetfrost_wire::keeping::{AtLimit, Keeping, NewHold, PointFate, RemoveNow, StayReason, StoreSettings, ThinningPreview};
use jetfrost_wire::size::{self, show};
use jetfrost_wire::workstation::{Overview, Point as PointRecord, Soundness, Workstation as WorkstationRecord};

use super::look_and_change;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, count, many, moment};

type Done = Result<Code, Failure>;

/// A job's end is waited for in calls of this length.
const WAIT: Duration = Duration::from_secs(20);

/// A size, or no limit.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Limit {
    None,
    Bytes(u64),
}

impl FromStr for Limit {
    type Err = size::NotASize;

    fn from_str(text: &str) -> Result<Self, size::NotASize> {
        if text.eq_ignore_ascii_case("none") { Ok(Self::None) } else { size::parse(text).map(Self::Bytes) }
    }
}

impl Limit {
    pub(crate) fn bytes(self) -> Option<u64> {
        match self {
            Self::None => None,
            Self::Bytes(bytes) => Some(bytes),
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AtLimitName {
    Stop,
    LetOldestGo,
}

impl From<AtLimitName> for AtLimit {
    fn from(name: AtLimitName) -> Self {
        match name {
            AtLimitName::Stop => Self::Stop,
            AtLimitName::LetOldestGo => Self::LetOldestGo,
        }
    }
}

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct WorkstationChange {
    /// What its image store may occupy, such as 200GB, or 'none'.
    #[arg(long, value_name = "SIZE")]
    limit: Option<Limit>,
    /// Which of its points are kept, if not what its destination says.
    #[arg(long, value_name = "WHAT", conflicts_with = "keep_as_destination")]
    keep: Option<Keeping>,
    /// Keeps what its destination says again.
    #[arg(long)]
    keep_as_destination: bool,
}

pub(crate) fn set_workstation(api: &Api, w: &WorkstationRecord, change: &WorkstationChange, ui: &Ui) -> Done {
    let set = look_and_change(|| {
        let w: WorkstationRecord = api.get(&format!("/workstations/{}", w.id))?;
        let own = w.store.keeping_is_own.then_some(w.store.keeping);
        let settings = StoreSettings {
            limit: change.limit.map_or(w.store.limit, Limit::bytes),
            keeping: if change.keep_as_destination { None } else { change.keep.or(own) },
        };
        let path = format!("/stores/{}/settings", w.store.id);
        let set: WorkstationRecord = api.change(Method::PUT, &path, &settings, &w.store.version)?;
        Ok(set)
    })?;
    ui.show(&set, |w| say_store(w, ui));
    Ok(Code::Done)
}

/// The limit and the rule of a workstation's store.
pub(crate) fn say_store(w: &WorkstationRecord, ui: &Ui) {
    let limit = w.store.limit.map_or_else(|| "no limit of its own".into(), show);
    let whose = if w.store.keeping_is_own { "set for this workstation" } else { "as its destination" };
    ui.line(&format!("Image store of {}: {limit}; keeps {} ({whose})", w.name, w.store.keeping));
    if let Some(hold) = &w.store.hold {
        ui.line(&format!("held by {}: {}", hold.by, hold.reason));
    }
    if let Some(leaving) = &w.store.leaving {
        ui.line(&format!("removed by {}: goes for good on {}", leaving.by, moment(leaving.ends)));
        ui.line(&format!("Until then:  jetfrost store bring-back {}", w.name));
    }
}

/// The workstation of that name.
pub(crate) fn workstation(api: &Api, name: &str) -> Result<WorkstationRecord, Failure> {
    let overview: Overview = api.get("/overview")?;
    let same = |w: &WorkstationRecord| w.name.to_lowercase() == name.to_lowercase() || w.id.0 == name;
    let missing = || Failure::here(format!("There is no workstation '{name}'."), "See 'jetfrost workstation list'.");
    overview.workstations.into_iter().find(same).ok_or_else(missing)
}

/// What is removed without its waiting time.
#[derive(Debug, Args)]
pub(crate) struct Now {
    /// Without the waiting time, so that its room is free at once; it cannot be brought back. Takes your password and a code of
    /// your second factor. Nothing goes within its protected time.
    #[arg(long)]
    now: bool,
    /// The code that the authenticator shows; asked for unless given.
    #[arg(long, requires = "now")]
    code: Option<String>,
    /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE", requires = "now")]
    password_file: Option<PathBuf>,
}

impl Now {
    fn remove(&self, api: &Api, login: &str, path: &str, ui: &Ui) -> Done {
        let file = self.password_file.as_deref();
        let given = Given { file, option: "--password-file", variable: "JETFROST_PASSWORD" };
        let password = ui.secret(&format!("the password of account '{login}'"), &given, false)?;
        let code = self.code.clone().map_or_else(|| ui.ask("The code of your second factor"), Ok)?;
        let begun: JobRecord = api.post(path, &RemoveNow { password, code })?;
        say_end_of(&wait_for(api, begun)?, ui)
    }
}

fn say_end_of(job: &JobRecord, ui: &Ui) -> Done {
    ui.show(job, |job| say_jobs(std::slice::from_ref(job), ui));
    Ok(if job.state == JobState::Done { Code::Done } else { Code::Failed })
}

#[derive(Debug, Subcommand)]
pub(crate) enum Point {
    /// Lists the points of a workstation, and until when each stays.
    List {
        /// The workstation's name.
        workstation: String,
    },
    /// Puts a hold on a point: neither a rule nor a person lets it go.
    Hold {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Takes the hold off a point.
    Release {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
    },
    /// Removes a point; it can be brought back during the destination's waiting time.
    Remove {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
        #[command(flatten)]
        now: Now,
    },
    /// Brings a removed point back.
    BringBack {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
    },
}

impl Point {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (session, api) = home.session_api()?;
        let path = |workstation: &str, number: u64, what: &str| -> Result<String, Failure> {
            Ok(format!("/stores/{}/points/{number}/{what}", self::workstation(&api, workstation)?.store.id))
        };
        let point: PointRecord = match &self {
            Self::List { workstation } => return list_points(&api, workstation, ui),
            Self::Hold { workstation, number, because } => {
                api.send(Method::PUT, &path(workstation, *number, "hold")?, &NewHold { reason: because.clone() })?
            }
            Self::Release { workstation, number } => api.send(Method::DELETE, &path(workstation, *number, "hold")?, &())?,
            Self::Remove { workstation, number, now } if now.now => {
                return now.remove(&api, &session.login, &path(workstation, *number, "leaving/now")?, ui);
            }
            Self::Remove { workstation, number, .. } => api.send(Method::PUT, &path(workstation, *number, "leaving")?, &())?,
            Self::BringBack { workstation, number } => api.send(Method::DELETE, &path(workstation, *number, "leaving")?, &())?,
        };
        ui.show(&point, |p| {
            ui.line(&format!("Point {} of {}:", p.sequence, moment(p.committed)));
            match (&p.hold, &p.leaving) {
                (Some(hold), _) => ui.line(&format!("  held by {}: {}", hold.by, hold.reason)),
                (None, Some(leaving)) => {
                    ui.line(&format!("  removed by {}; it goes for good on {}", leaving.by, moment(leaving.ends)));
                    ui.line("  until then it keeps its room, and 'jetfrost point bring-back' undoes this");
                }
                (None, None) => ui.line("  stays as long as the rule says"),
            }
        });
        Ok(Code::Done)
    }
}

fn preview(api: &Api, name: &str) -> Result<ThinningPreview, Failure> {
    Ok(api.get(&format!("/stores/{}/thinning", workstation(api, name)?.store.id))?)
}

fn list_points(api: &Api, name: &str, ui: &Ui) -> Done {
    let preview = preview(api, name)?;
    ui.show(&preview.points, |fates| say_fates(fates, ui));
    Ok(Code::Done)
}

fn say_fates(fates: &[PointFate], ui: &Ui) {
    let row = |fate: &PointFate| {
        let until = match (fate.stays, fate.until, fate.goes_for_room) {
            (None, ..) => "goes next".into(),
            (_, Some(until), true) => format!("{}, then while there is room", moment(until)),
            (_, Some(until), false) => moment(until),
            (_, None, true) => "while there is room".into(),
            (_, None, false) => "no end".into(),
        };
        let p = &fate.point;
        let why = fate.stays.map_or("its time is over", stay_reason);
        let why = if p.lost { "its files are lost" } else { why };
        let why = p.hold.as_ref().map_or_else(|| why.to_owned(), |hold| format!("held: {}", hold.reason));
        vec![p.sequence.to_string(), moment(p.committed), count(p.files), show(p.bytes), until, why]
    };
    let heads = ["point", "made", "files", "size", "stays until", "because"];
    ui.table(&heads, fates.iter().map(row).collect(), &[0, 2, 3], "There is no recovery point yet.");
}

fn stay_reason(reason: StayReason) -> &'static str {
    match reason {
        StayReason::Recent => "recent",
        StayReason::Protected => "protected time",
        StayReason::Day => "last of its day",
        StayReason::Week => "last of its week",
        StayReason::Month => "last of its month",
        StayReason::Year => "last of its year",
        StayReason::AtLeast => "by the rule's 'at least'",
        StayReason::FromTheFuture => "made later than now",
        StayReason::Latest => "the latest",
        StayReason::Held => "held",
        StayReason::Leaving => "removed, waiting",
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Store {
    /// Puts a hold on a workstation's image store: nothing of it goes.
    Hold {
        /// The workstation's name.
        workstation: String,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Takes the hold off.
    Release {
        /// The workstation's name.
        workstation: String,
    },
    /// Removes a workstation with its image store; both can be brought back during the destination's waiting time.
    Remove {
        /// The workstation's name; asked for again unless given here twice.
        workstation: String,
        /// The name again, so that nothing is removed by a slip.
        #[arg(long, value_name = "NAME")]
        confirm: String,
        #[command(flatten)]
        now: Now,
    },
    /// Brings a removed image store back.
    BringBack {
        /// The workstation's name.
        workstation: String,
    },
    /// Takes a way into an image store away; never the last of the person's own.
    RemoveWayIn {
        /// The workstation's name.
        workstation: String,
        /// The way in, as 'jetfrost workstation show' shows it.
        id: String,
    },
}

impl Store {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (session, api) = home.session_api()?;
        let path = |name: &str, what: &str| Ok::<_, Failure>(format!("/stores/{}/{what}", workstation(&api, name)?.store.id));
        let w: WorkstationRecord = match &self {
            Self::Hold { workstation, because } => {
                api.send(Method::PUT, &path(workstation, "hold")?, &NewHold { reason: because.clone() })?
            }
            Self::Release { workstation } => api.send(Method::DELETE, &path(workstation, "hold")?, &())?,
            Self::Remove { workstation, confirm, .. } if workstation != confirm => {
                return Err(Failure::here(
                    format!("'{workstation}' and '{confirm}' are not the same."),
                    "Nothing was removed. Give the workstation's name twice.",
                ));
            }
            Self::Remove { workstation, now, .. } if now.now => {
                return now.remove(&api, &session.login, &path(workstation, "leaving/now")?, ui);
            }
            Self::Remove { workstation, .. } => api.send(Method::PUT, &path(workstation, "leaving")?, &())?,
            Self::BringBack { workstation } => api.send(Method::DELETE, &path(workstation, "leaving")?, &())?,
            Self::RemoveWayIn { workstation, id } => {
                api.delete(&path(workstation, &format!("slots/{id}"))?)?;
                self::workstation(&api, workstation)?
            }
        };
        ui.show(&w, |w| say_store(w, ui));
        Ok(Code::Done)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Thinning {
    /// Says which points of a workstation would go next and what room that would free; changes nothing.
    Preview {
        /// The workstation's name.
        workstation: String,
    },
    /// Lets go now what is due, and waits until its room is back.
    Start {
        /// The workstation's name.
        workstation: String,
    },
}

impl Thinning {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::Preview { workstation } => {
                let preview = preview(&api, &workstation)?;
                ui.show(&preview, |preview| {
                    say_fates(&preview.points, ui);
                    let going = preview.points.iter().filter(|fate| fate.stays.is_none()).count() as u64;
                    ui.line(&format!("Rule: {}.", preview.keeping));
                    if preview.keeps_earlier_promises {
                        ui.line("The terms were changed: points from before that are kept as long as they were promised then.");
                    }
                    let freed = format!("{} ({})", show(preview.freed_bytes), many(preview.freed_chunks, "chunk"));
                    ui.line(&format!("{} would go, which frees {freed}.", many(going, "point")));
                });
                Ok(Code::Done)
            }
            Self::Start { workstation } => {
                let w = self::workstation(&api, &workstation)?;
                let begun: JobRecord = api.post(&format!("/stores/{}/thinning", w.store.id), &())?;
                say_end_of(&wait_for(&api, begun)?, ui)
            }
        }
    }
}

/// Waits for a job's end, or until somebody pauses it.
fn wait_for(api: &Api, begun: JobRecord) -> Result<JobRecord, Failure> {
    let mut job = begun;
    while !job.state.has_ended() && job.state != JobState::Paused {
        job = api.get(&format!("/jobs/{}?wait_seconds={}", job.id, WAIT.as_secs()))?;
    }
    Ok(job)
}

#[derive(Debug, Subcommand)]
pub(crate) enum Scrub {
    /// Says what is known of the soundness of a workstation's image store.
    Show {
        /// The workstation's name.
        workstation: String,
    },
    /// Reads every stored byte of a workstation now and compares it with its checks, and waits for the end.
    Start {
        /// The workstation's name.
        workstation: String,
    },
}

impl Scrub {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let name = match &self {
            Self::Show { workstation } | Self::Start { workstation } => workstation,
        };
        let store = workstation(&api, name)?.store.id;
        if matches!(self, Self::Start { .. }) {
            let begun: JobRecord = api.post(&format!("/stores/{store}/scrub"), &())?;
            let job = wait_for(&api, begun)?;
            if job.state != JobState::Done {
                ui.show(&job, |job| say_jobs(std::slice::from_ref(job), ui));
                return Ok(Code::Failed);
            }
        }
        let soundness: Soundness = api.get(&format!("/stores/{store}/soundness"))?;
        ui.show(&soundness, |soundness| say_soundness(name, soundness, ui));
        let is_hurt = soundness.lost_chunks > 0 || !soundness.findings.is_empty();
        Ok(if is_hurt { Code::Damage } else { Code::Done })
    }
}

fn say_soundness(name: &str, soundness: &Soundness, ui: &Ui) {
    match soundness.scrubbed {
        Some(at) => ui.line(&format!("Every stored byte of {name} was read and compared on {}.", moment(at))),
        None => ui.line(&format!("{name} was never scrubbed. Next: jetfrost scrub start {name}")),
    }
    for finding in &soundness.findings {
        ui.line(&format!("  {}: {}", finding.path, finding.wrong));
    }
    if soundness.lost_chunks == 0 {
        ui.line("All that its points need is there.");
        return;
    }
    let points: Vec<String> = soundness.hurt_points.iter().map(|p| format!("{} ({})", p.sequence, p.lost_chunks)).collect();
    ui.line(&format!(
        "Lost: {}, needed by these points (and how many of them): {}",
        many(soundness.lost_chunks, "chunk"),
        points.join(", ")
    ));
    ui.line("The next backup brings those that the workstation still has. All else in these points comes back.");
}

#[derive(Debug, Subcommand)]
pub(crate) enum Job {
    /// Lists the service's long work, latest first.
    List,
    /// Stops a job for the time being.
    Pause {
        /// Its id.
        id: String,
    },
    /// Lets a paused job go on.
    GoOn {
        /// Its id.
        id: String,
    },
    /// Ends a job; what it has done stays done.
    Cancel {
        /// Its id.
        id: String,
    },
}

impl Job {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let (id, order) = match self {
            Self::List => {
                let jobs: Vec<JobRecord> = api.list("/jobs")?;
                ui.show(&jobs, |jobs| say_jobs(jobs, ui));
                return Ok(Code::Done);
            }
            Self::Pause { id } => (id, Order::Pause),
            Self::GoOn { id } => (id, Order::GoOn),
            Self::Cancel { id } => (id, Order::Cancel),
        };
        let job: JobRecord = api.send(Method::PUT, &format!("/jobs/{id}/order"), &JobOrder { order })?;
        ui.show(&job, |job| say_jobs(std::slice::from_ref(job), ui));
        Ok(Code::Done)
    }
}

fn say_jobs(jobs: &[JobRecord], ui: &Ui) {
    let row = |job: &JobRecord| {
        let share = (job.done * 100).checked_div(job.total).map_or_else(String::new, |share| format!("{share} %"));
        vec![
            job.id.0.clone(),
            job.kind.word().into(),
            job.name.clone(),
            job.state.word().into(),
            share,
            moment(job.created),
            job.by.clone(),
            job.outcome.clone().unwrap_or_default(),
        ]
    };
    let heads = ["id", "job", "workstation", "state", "done", "asked for", "by", "outcome"];
    ui.table(&heads, jobs.iter().map(row).collect(), &[4], "There was no long work yet.");
}
