//! `jetfrost point`: recovery points, held, removed, undeleted.

use clap::{Subcommand, ValueEnum};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::point::{MarkPoint, Point as PointRecord, PointMark};
use jetfrost_wire::retention::{NewHold, PointFate, StayReason, ThinningPreview};
use jetfrost_wire::size::show;

use crate::commands::administration::removal::Now;
use crate::commands::administration::store::workstation_named;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, count, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Point {
    /// Lists the points of a workstation and how long each stays.
    List {
        /// The workstation's name.
        workstation: String,
    },
    /// Puts a hold on a point: neither retention nor a person can remove it.
    Hold {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Releases the hold on a point.
    Release {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
    },
    /// Marks a point: 'good' ends a false alarm, 'suspect' keeps all older points, 'resolved' ends an incident.
    Mark {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
        /// As what.
        #[arg(value_enum)]
        mark: Mark,
        /// The mark that it has, if it has one: what somebody else found out meanwhile is not overwritten.
        #[arg(long, value_enum, value_name = "MARK")]
        instead_of: Option<Mark>,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Removes a point; it can be undeleted during the destination's waiting time.
    Remove {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
        #[command(flatten)]
        now: Now,
    },
    /// Undeletes a removed point.
    Undelete {
        /// The workstation's name.
        workstation: String,
        /// The point's number.
        number: u64,
    },
}

/// What a person found out about a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Mark {
    /// It is as it should be.
    Good,
    /// It may contain what an incident left.
    Suspect,
    /// It contains what an incident left, and that is dealt with.
    Resolved,
}

impl From<Mark> for PointMark {
    fn from(mark: Mark) -> Self {
        match mark {
            Mark::Good => Self::Good,
            Mark::Suspect => Self::Suspect,
            Mark::Resolved => Self::Resolved,
        }
    }
}

impl Point {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (session, api) = state_dir.session_api()?;
        let store = |workstation: &str| Ok::<_, Failure>(workstation_named(&api, workstation)?.store.id);
        let point: PointRecord = match &self {
            Self::List { workstation } => return list_points(&api, workstation, ui),
            Self::Hold { workstation, number, because } => {
                api.call_with(&calls::hold_point(store(workstation)?, number), &NewHold { reason: because.clone() })?
            }
            Self::Release { workstation, number } => api.call(&calls::release_point(store(workstation)?, number))?,
            Self::Mark { workstation, number, mark, instead_of, because } => {
                let wish = MarkPoint { mark: (*mark).into(), reason: because.clone(), seen: instead_of.map(Into::into) };
                api.call_with(&calls::mark_point(store(workstation)?, number), &wish)?
            }
            Self::Remove { workstation, number, now } if now.now => {
                return now.remove(&api, &session.login, &calls::remove_point_now(store(workstation)?, number), ui);
            }
            Self::Remove { workstation, number, .. } => api.call(&calls::remove_point(store(workstation)?, number))?,
            Self::Undelete { workstation, number } => api.call(&calls::undelete_point(store(workstation)?, number))?,
        };
        ui.show(&point, |p| {
            ui.line(&format!("Point {} of {}:", p.sequence, moment(p.committed)));
            if let Some(given) = &p.mark {
                ui.line(&format!("  marked {} by {}: {}", given.mark.word(), given.by, given.reason));
            }
            if p.is_suspect() {
                ui.line("  it and all older points stay until it is marked good or resolved");
                return;
            }
            match (&p.hold, &p.pending_removal) {
                (Some(hold), _) => ui.line(&format!("  held by {}: {}", hold.by, hold.reason)),
                (None, Some(pending_removal)) => {
                    ui.line(&format!("  removed by {}; gone for good on {}", pending_removal.by, moment(pending_removal.ends)));
                    ui.line("  until then it takes up space, and 'jetfrost point undelete' undoes this");
                }
                (None, None) => ui.line("  stays as long as the rule says"),
            }
        });
        Ok(Code::Done)
    }
}

/// What the next thinning would do to the points of a workstation.
pub(crate) fn preview(api: &Api, name: &str) -> Result<ThinningPreview, Failure> {
    Ok(api.call(&calls::preview_thinning(&workstation_named(api, name)?.store.id))?)
}

fn list_points(api: &Api, name: &str, ui: &Ui) -> Done {
    let preview = preview(api, name)?;
    ui.show(&preview.points, |fates| say_fates(fates, ui));
    Ok(Code::Done)
}

pub(crate) fn say_fates(fates: &[PointFate], ui: &Ui) {
    let row = |fate: &PointFate| {
        let until = match (fate.stays, fate.until, fate.goes_for_room) {
            (None, ..) => "expires next".into(),
            (_, Some(until), true) => format!("{}, then while there is room", moment(until)),
            (_, Some(until), false) => moment(until),
            (_, None, true) => "while there is room".into(),
            (_, None, false) => "no end".into(),
        };
        let p = &fate.point;
        let why = fate.stays.map_or("its time is over", stay_reason);
        let why = if p.lost { "its files are lost" } else { why };
        let why = if p.is_suspect() { labels::mark(p) } else { why };
        let why = p.hold.as_ref().map_or_else(|| why.to_owned(), |hold| format!("held: {}", hold.reason));
        let marked = p.mark.as_ref().map(|given| format!("; marked {} by {}: {}", given.mark.word(), given.by, given.reason));
        let why = why + &marked.unwrap_or_default();
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
        StayReason::Suspect => "kept because of a suspect point",
        StayReason::PendingRemoval => "removed, waiting",
    }
}
