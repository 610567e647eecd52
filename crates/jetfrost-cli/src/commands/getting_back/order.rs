//! `jetfrost order`: restores that somebody asks a workstation's agent to do.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::ClientError;
use jetfrost_client::agent::{Ask, ask};
use jetfrost_client::browse::At;
use jetfrost_client::orders::{Asked, Ending, Policy, Received, Reply, Verdict, give, policy, received, reply, set_policy};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::getting_back::absolute;
use crate::commands::getting_back::read_from::ReadFrom;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, ago, many, moment, shown_path};

type Done = Result<Code, Failure>;

/// Paths of an order that are shown.
const SHOWN_PATHS: usize = 10;

#[derive(Debug, Subcommand)]
pub(crate) enum Order {
    /// Asks a workstation's agent to restore something; nothing there is replaced.
    Give(Box<Give>),
    /// Lists the orders that came for this workstation and have not ended.
    List,
    /// Lets an order be carried out.
    Accept {
        /// Its number, as in the list.
        order: String,
    },
    /// Declines an order, or stops it while it is carried out.
    Decline {
        /// Its number, as in the list.
        order: String,
    },
    /// Shows or sets what becomes of orders for this workstation.
    Policy {
        /// What becomes of them from now on.
        policy: Option<PolicyArgument>,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PolicyArgument {
    /// They are carried out without asking.
    CarryOut,
    /// Each waits until somebody at this workstation accepts it.
    Ask,
    /// They are declined.
    Decline,
}

impl From<PolicyArgument> for Policy {
    fn from(policy: PolicyArgument) -> Self {
        match policy {
            PolicyArgument::CarryOut => Self::CarryOut,
            PolicyArgument::Ask => Self::Ask,
            PolicyArgument::Decline => Self::Decline,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Give {
    /// Files and folders, by the paths that they had.
    #[arg(required = true)]
    paths: Vec<PathBuf>,
    /// A folder of that workstation, within what it backs up; what is restored goes into a new folder in it [default: beside where it was].
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Order {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        match self {
            Self::Give(order) => order.run(state_dir, ui),
            Self::List => list(state_dir, ui),
            Self::Accept { order } => answer(state_dir, &order, Reply::Accept, ui),
            Self::Decline { order } => answer(state_dir, &order, Reply::Decline, ui),
            Self::Policy { policy } => {
                if let Some(policy) = policy {
                    set_policy(state_dir, policy.into())?;
                    // Without an agent there is nobody to tell.
                    let _ = ask(state_dir, &Ask::SeeToOrders);
                }
                say_policy(state_dir, ui)
            }
        }
    }
}

impl Give {
    fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        if !self.from.is_of_a_workstation() {
            return Err(Failure::here("An order is for a workstation.", "Name it: jetfrost order give --of WORKSTATION PATH"));
        }
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let paths = absolute(&self.paths)?;
        for path in &paths {
            // Here a typing error costs nothing.
            browser.list(&point, path_bytes(path))?;
        }
        let (session, _) = state_dir.session_api()?;
        let order = give(&browser, &session.login, Asked { point: point.head.sequence, paths, into: self.into })?;
        ui.show(&order, |order| {
            ui.line(&format!("The agent restores it as soon as it hears of it, until {}.", moment(order.expires)));
            ui.remark("How it goes: the workstation’s page in the console.");
        });
        Ok(Code::Done)
    }
}

fn list(state_dir: &StateDir, ui: &Ui) -> Done {
    let orders = received(state_dir)?;
    let agent_runs = !matches!(ask(state_dir, &Ask::Status), Err(ClientError::NoAgent));
    ui.show(&orders.iter().map(|order| as_json(order, agent_runs)).collect::<Vec<_>>(), |_| {
        orders.iter().for_each(|order| say(order, agent_runs, ui));
        if orders.is_empty() {
            ui.line("No order waits for this workstation.");
        }
    });
    if ui.is_json() { Ok(Code::Done) } else { say_policy(state_dir, ui) }
}

fn say(received: &Received, agent_runs: bool, ui: &Ui) {
    let now = Timestamp::now();
    let given = ago(received.on_record.created, now);
    let Ok(order) = &received.order else {
        ui.line(&format!("order    from {}, {given}: {}", received.on_record.by, becomes(received, agent_runs)));
        return;
    };
    ui.line(&format!("order    {}, from {} at {}, {given}", number(received), order.login, received.on_record.origin));
    for path in order.paths.iter().take(SHOWN_PATHS) {
        ui.line(&format!("         {}", shown_path(path)));
    }
    if let Some(more) = order.paths.len().checked_sub(SHOWN_PATHS).filter(|more| *more > 0) {
        ui.line(&format!("         and {} more", many(more as u64, "path")));
    }
    let into = order.into.as_ref().map(|into| format!("into a new folder in {}", shown_path(into)));
    ui.line(&format!("         from point {}, {}", order.point, into.unwrap_or_else(|| "beside where it was".into())));
    ui.line(&format!("         {}", becomes(received, agent_runs)));
}

/// What is to become of an order, and what can be done about it.
fn becomes(received: &Received, agent_runs: bool) -> String {
    match &received.verdict {
        Verdict::Ask => {
            let number = number(received);
            format!("It waits for you. Next: jetfrost order accept {number}, or: jetfrost order decline {number}")
        }
        Verdict::CarryOut if agent_runs => "The agent carries it out.".into(),
        Verdict::CarryOut => "It waits for the agent, which does not run. Next: jetfrost agent install".into(),
        Verdict::End(Ending::Done(_)) => "It is done.".into(),
        Verdict::End(Ending::Declined(why)) => format!("It is declined: {why}"),
        Verdict::End(Ending::Failed(why)) => format!("It failed: {why}"),
    }
}

/// By what people call an order: enough of its id.
fn number(received: &Received) -> String {
    received.order.as_ref().map_or_else(|_| String::new(), |order| order.id.to_string()[..8].to_owned())
}

fn as_json(received: &Received, agent_runs: bool) -> Value {
    let order = received.order.as_ref().ok();
    json!({
        "order": order.map(|_| number(received)),
        "by": received.on_record.by,
        "origin": received.on_record.origin,
        "session": order.map(|order| &order.session),
        "created": received.on_record.created,
        "expires": received.on_record.expires,
        "point": order.map(|order| order.point),
        "paths": order.map(|order| order.paths.iter().map(|path| shown_path(path)).collect::<Vec<_>>()),
        "into": order.and_then(|order| order.into.as_ref()).map(|into| shown_path(into)),
        "becomes": becomes(received, agent_runs),
    })
}

fn answer(state_dir: &StateDir, wanted: &str, said: Reply, ui: &Ui) -> Done {
    let orders = received(state_dir)?;
    let mut found = orders.iter().filter(|order| !wanted.is_empty() && number(order) == wanted);
    let (Some(Received { order: Ok(order), .. }), None) = (found.next(), found.next()) else {
        return Err(Failure::here(format!("There is no order '{wanted}'."), "See 'jetfrost order list'."));
    };
    reply(state_dir, order, said)?;
    let is_heard = match ask(state_dir, &Ask::SeeToOrders) {
        Ok(_) => true,
        Err(ClientError::NoAgent) => false,
        Err(error) => return Err(error.into()),
    };
    ui.show(&json!({ "order": wanted, "accepted": said == Reply::Accept, "agent": is_heard }), |_| match (said, is_heard) {
        (Reply::Accept, true) => ui.line("The agent carries it out."),
        (Reply::Decline, true) => ui.line("It is declined."),
        (_, false) => ui.line("That is noted, and no agent runs to act on it. Next: jetfrost agent install"),
    });
    Ok(Code::Done)
}

fn say_policy(state_dir: &StateDir, ui: &Ui) -> Done {
    let policy = policy(state_dir)?;
    ui.show(&json!({ "policy": policy }), |_| {
        ui.line(match policy {
            Policy::CarryOut => "policy   Orders are carried out without asking. Nothing that is there is replaced.",
            Policy::Ask => "policy   Each order waits until somebody here accepts it.",
            Policy::Decline => "policy   Orders are declined.",
        });
    });
    Ok(Code::Done)
}
