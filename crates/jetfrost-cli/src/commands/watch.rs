//! What is decided, what the service lets in, and what was done: the set-up list, admission and the audit log.

use std::io::Write;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::api::Method;
use jetfrost_client::home::Home;
use jetfrost_wire::service::{
    Accepting, Admission as AdmissionCall, AdmissionState, AuditCheck, AuditEntry, AuditHeads, OfficeSettings,
};
use jetfrost_wire::setting_up::{SettingUp as SettingUpList, Settle, StepLine, StepState};
use jetfrost_wire::size::Units;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::look_and_change;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, count, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum What {
    Backups,
    Restores,
    Both,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Settings {
    /// Shows what is decided for all of the office.
    Show,
    /// Decides it. It counts at once, everywhere.
    Set {
        /// Which units sizes are shown in: decimal (GB) or binary (GiB).
        #[arg(long, value_parser = units)]
        units: Units,
    },
}

fn units(text: &str) -> Result<Units, String> {
    Units::from_word(text).ok_or_else(|| "it is 'decimal' or 'binary'".into())
}

impl Settings {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let settings: OfficeSettings = match self {
            Self::Show => api.get("/settings")?,
            Self::Set { units } => api.send(Method::PUT, "/settings", &OfficeSettings { units })?,
        };
        ui.show(&settings, |settings| {
            ui.line(match settings.units {
                Units::Decimal => "Sizes are shown in decimal units: 1 GB is 1,000,000,000 bytes. Both kinds are understood.",
                Units::Binary => "Sizes are shown in binary units: 1 GiB is 1,073,741,824 bytes. Both kinds are understood.",
            });
        });
        Ok(Code::Done)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Admission {
    /// Says what is let in, and what is underway.
    Show,
    /// Lets in what was stopped or paused.
    LetIn {
        /// Which.
        #[arg(default_value = "both")]
        what: What,
    },
    /// Lets no new backups in until a time. Restores go on.
    Pause {
        /// Until when: 2026-11-24T06:00 by this machine's clock, or a duration such as 2h.
        #[arg(long)]
        until: String,
    },
    /// Lets nothing new in, until it is let in again. What is underway comes to its end.
    Stop {
        /// Which.
        #[arg(default_value = "backups")]
        what: What,
    },
}

impl Admission {
    /// What is to be let in, if that is to change.
    fn over(&self, now: AdmissionCall) -> Result<Option<AdmissionCall>, Failure> {
        let AdmissionCall { mut backups, mut restores } = now;
        match self {
            Self::Show => return Ok(None),
            Self::LetIn { what } => {
                backups = if *what == What::Restores { backups } else { Accepting::On };
                restores |= *what != What::Backups;
            }
            Self::Pause { until } => backups = Accepting::Paused { until: moment_of(until)? },
            Self::Stop { what } => {
                backups = if *what == What::Restores { backups } else { Accepting::Off };
                restores &= *what == What::Backups;
            }
        }
        Ok(Some(AdmissionCall { backups, restores }))
    }

    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let state = look_and_change(|| {
            let now: AdmissionState = api.get("/admission")?;
            let Some(to) = self.over(now.admission)? else { return Ok(now) };
            Ok(api.change(Method::PUT, "/admission", &to, &now.version)?)
        })?;
        ui.show(&state, |state| say_admission(state, ui));
        Ok(Code::Done)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum SettingUp {
    /// Lists what is decided, what is not, and whose move it is.
    List,
    /// Decides to leave a step as it is.
    Settle {
        /// The step, as the list names it.
        step: String,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Opens a step again.
    Reopen {
        /// The step, as the list names it.
        step: String,
    },
}

impl SettingUp {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let path = |step: &str| format!("/setting-up/{}/settled", step.to_lowercase().replace([' ', '-'], "_"));
        let list: SettingUpList = match self {
            Self::List => api.get("/setting-up")?,
            Self::Settle { step, because } => api.send(Method::PUT, &path(&step), &Settle { why: because })?,
            Self::Reopen { step } => api.send(Method::DELETE, &path(&step), &())?,
        };
        ui.show(&list, |list| say_setting_up(list, ui));
        Ok(Code::Done)
    }
}

fn say_setting_up(list: &SettingUpList, ui: &Ui) {
    let row = |line: &StepLine| {
        let name = serde_json::to_value(line.step).unwrap_or_default();
        let state = match line.state {
            StepState::Done => "done",
            StepState::Open => "open",
            StepState::Settled => "left as it is",
        };
        let more = match (&line.next, &line.settled) {
            (Some(next), _) if line.at_a_workstation => format!("At the workstation: {next}"),
            (Some(next), _) => format!("Next: {next}"),
            (None, Some(settled)) => format!("{}: {}", settled.by, settled.why),
            (None, None) => String::new(),
        };
        vec![name.as_str().unwrap_or_default().replace('_', " "), state.to_owned(), line.says.clone(), more]
    };
    ui.table(&["step", "state", "", ""], list.steps.iter().map(row).collect(), &[], "");
    let open = list.steps.iter().filter(|line| line.state == StepState::Open).count() as u64;
    ui.line("");
    ui.line(&if list.ready { "Ready.".to_owned() } else { format!("Not ready: {} open.", many(open, "step")) });
}

/// A moment, or a duration from now.
fn moment_of(text: &str) -> Result<Timestamp, Failure> {
    let wrong = || {
        Failure::here(
            format!("'{text}' is neither a moment nor a duration."),
            "Give for example 2026-11-24T06:00, or 2h, or 30m.",
        )
    };
    if let Ok(span) = text.parse::<jiff::SignedDuration>() {
        return Timestamp::now().checked_add(span).map_err(|_| wrong());
    }
    let civil: jiff::civil::DateTime = text.parse().map_err(|_| wrong())?;
    civil.to_zoned(TimeZone::system()).map(|zoned| zoned.timestamp()).map_err(|_| wrong())
}

fn say_admission(state: &AdmissionState, ui: &Ui) {
    let AdmissionCall { backups, restores } = state.admission;
    ui.line(&match backups {
        Accepting::On => "Backups are let in.".to_owned(),
        Accepting::Paused { until } => format!("Backups are paused until {}.", moment(until)),
        Accepting::Off => "Backups are not let in.".to_owned(),
    });
    ui.line(if restores { "Restores are let in." } else { "Restores are not let in." });
    if !state.running.is_empty() {
        ui.line(&format!("Runs that are underway come to their end: {}.", state.running.join(", ")));
    }
    if state.restoring > 0 {
        ui.line(&format!("{} underway.", many(state.restoring, "restore")));
    }
}

#[derive(Debug, Args)]
pub(crate) struct Filter {
    /// Text somewhere in what was done, to what, and how it was.
    #[arg(long)]
    text: Option<String>,
    /// Part of the name of who did it.
    #[arg(long)]
    who: Option<String>,
    /// Not before this time: 2026-11-20, or 2026-11-20T14:00.
    #[arg(long)]
    since: Option<String>,
    /// Before this time.
    #[arg(long)]
    until: Option<String>,
    /// Only what was refused.
    #[arg(long)]
    refused: bool,
}

impl Filter {
    fn query(&self) -> Result<Vec<(&'static str, Option<String>)>, Failure> {
        let moment = |text: &Option<String>| text.as_deref().map(|text| moment_of(text).map(|at| at.to_string())).transpose();
        Ok(vec![
            ("text", self.text.clone()),
            ("who", self.who.clone()),
            ("since", moment(&self.since)?),
            ("until", moment(&self.until)?),
            ("refused", self.refused.then(|| "true".to_owned())),
        ])
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Form {
    Csv,
    JsonLines,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// Lists what was done and refused, latest first.
    List {
        #[command(flatten)]
        filter: Filter,
        /// How many at most.
        #[arg(long, default_value_t = 50)]
        most: usize,
    },
    /// Writes the log as a file.
    Export {
        #[command(flatten)]
        filter: Filter,
        /// The form.
        #[arg(long, default_value = "csv")]
        form: Form,
        /// The file; standard output unless given.
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Follows the chain of entries and says where it breaks.
    Check {
        /// The last link as it was written down earlier: says whether that entry is still there.
        #[arg(long, value_name = "LINK")]
        expect: Option<String>,
    },
}

impl Audit {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List { filter, most } => {
                let entries: Vec<AuditEntry> = api.list_at_most("/audit", &filter.query()?, most)?;
                ui.show(&entries, |entries| say_entries(entries, ui));
            }
            Self::Export { filter, form, to } => {
                let mut query = filter.query()?;
                let word = match form {
                    Form::Csv => "csv",
                    Form::JsonLines => "json_lines",
                };
                query.push(("form", Some(word.into())));
                let failed =
                    |e: std::io::Error| Failure::here(format!("The file cannot be written: {e}."), "Choose another file.");
                let mut out: Box<dyn Write> = match &to {
                    Some(path) => Box::new(std::fs::File::create_new(path).map_err(failed)?),
                    None => Box::new(std::io::stdout()),
                };
                api.download("/audit/export", &query, &mut out)?;
                out.flush().map_err(failed)?;
            }
            Self::Check { expect } => return check(&api.get("/audit/check")?, expect.as_deref(), &api, ui),
        }
        Ok(Code::Done)
    }
}

fn check(found: &AuditCheck, expect: Option<&str>, api: &jetfrost_client::api::Api, ui: &Ui) -> Done {
    let expected = match expect {
        None => true,
        Some(link) if found.last_link.as_deref() == Some(link) => true,
        Some(link) => {
            let entries: Vec<AuditEntry> = api.list("/audit")?;
            entries.iter().any(|entry| entry.link.as_deref() == Some(link))
        }
    };
    let agrees = found.heads.iter().all(|heads| heads.contradicted_at.is_none());
    ui.show(found, |found| {
        ui.line(&match found.broken_at {
            None if !agrees => "Each entry follows from the one before, and yet they are not those that were made:".into(),
            None => format!("{} are as they were made.", many(found.entries, "entry").replace("entrys", "entries")),
            Some(number) => format!("The chain breaks at entry {number}: it was altered, or one before it was removed."),
        });
        if found.unchained > 0 {
            ui.line(&format!("{} of them are from versions that did not chain them.", count(found.unchained)));
        }
        if !expected {
            ui.line("The entry that you expect is gone: entries were taken off the end.");
        }
        found.heads.iter().for_each(|heads| say_heads(heads, ui));
        if let Some(link) = &found.last_link {
            ui.line(&format!("Last link, for your own notes:  {link}"));
        }
    });
    Ok(if found.broken_at.is_none() && expected && agrees { Code::Done } else { Code::Damage })
}

/// What the signed heads on a destination say.
fn say_heads(heads: &AuditHeads, ui: &Ui) {
    let AuditHeads { destination, agree, contradicted_at, by_other_keys, unreadable, trouble } = heads;
    match (trouble, contradicted_at) {
        (Some(why), _) => ui.line(&format!("'{destination}': its heads cannot be read: {why}.")),
        (None, Some(number)) => ui.line(&format!(
            "'{destination}' contradicts the log at entry {number}: it was altered or removed, with those before it made to fit."
        )),
        (None, None) => ui.line(&format!("'{destination}': the log agrees with {}.", many(*agree, "signed head"))),
    }
    if *by_other_keys > 0 {
        let signed = many(*by_other_keys, "head");
        ui.line(&format!("  {signed} by another key, from before this service started again from a copy of its records."));
    }
    if *unreadable > 0 {
        ui.line(&format!("  {} cannot be read, or its signature is wrong.", many(*unreadable, "line")));
    }
}

fn say_entries(entries: &[AuditEntry], ui: &Ui) {
    let row = |e: &AuditEntry| {
        let how = match (&e.before, &e.after) {
            (Some(before), Some(after)) => format!("{before} → {after}"),
            (None, Some(text)) | (Some(text), None) => text.clone(),
            (None, None) => String::new(),
        };
        let what = if e.refused { format!("{} (refused)", e.what) } else { e.what.clone() };
        vec![e.number.to_string(), moment(e.at), e.who.clone(), e.from.clone(), what, e.subject.clone(), how]
    };
    let heads = ["", "when", "who", "from", "what", "to", "how"];
    ui.table(&heads, entries.iter().map(row).collect(), &[0], "There is no such entry.");
}
