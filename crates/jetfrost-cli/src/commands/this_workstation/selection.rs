//! `jetfrost include`, `exclude` and `selection`: what is backed up.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, Subcommand};
use jetfrost_client::agent::{Ask, ask};
use jetfrost_client::estimate::{Amount, Estimate, Why, estimate, why};
use jetfrost_client::exclusion::{Rule, Template, Templates};
use jetfrost_client::selection::Selection;
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::calls;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::Workstation;
use serde::Serialize;
use serde_json::json;

use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Include {
    /// Folders or files.
    #[arg(required = true)]
    folders: Vec<PathBuf>,
    /// The paths are disks: block devices or raw image files, backed up whole.
    #[arg(long, conflicts_with = "drop")]
    disk: bool,
    /// With each folder, include the volumes that are mounted below it, as far as they are on disks of this machine.
    #[arg(long, conflicts_with_all = ["disk", "drop"])]
    with_mounts: bool,
    /// Remove them from the selection. Existing points keep them.
    #[arg(long)]
    drop: bool,
}

impl Include {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut selection = state_dir.selection()?;
        for folder in &self.folders {
            if self.disk {
                selection.include_disk(folder)?;
            } else if !self.drop {
                let kept = selection.include(folder)?;
                selection.include_mounts(&kept, self.with_mounts);
                if kept != std::path::absolute(folder).unwrap_or_default() {
                    ui.remark(&format!("{} leads to {}, and that is what is included.", folder.display(), kept.display()));
                }
            } else if !selection.drop_folder(folder) {
                return Err(Failure::here(format!("{} is not included.", folder.display()), "See 'jetfrost selection'."));
            }
        }
        state_dir.write_selection(&selection)?;
        self::selection(state_dir, None, ui)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Exclude {
    /// Patterns: without '/' a name at any depth ('*.tmp', 'node_modules'), with '/' a path ('/home/*/Downloads'); '**'
    /// stands for any number of folders.
    #[arg(required_unless_present = "template")]
    patterns: Vec<String>,
    /// A template: a list of patterns with a reason, see 'jetfrost selection templates'. May be repeated.
    #[arg(long, value_name = "NAME", value_parser = template)]
    template: Vec<Template>,
    /// Remove the patterns and templates.
    #[arg(long)]
    drop: bool,
}

pub(crate) fn template(text: &str) -> Result<Template, String> {
    Template::from_word(text).ok_or_else(|| {
        let all: Vec<&str> = Template::ALL.iter().map(|template| template.word()).collect();
        format!("it is one of {}", all.join(", "))
    })
}

impl Exclude {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut selection = state_dir.selection()?;
        for pattern in &self.patterns {
            if !self.drop {
                selection.exclude(pattern)?;
            } else if !selection.drop_pattern(pattern) {
                return Err(Failure::here(format!("'{pattern}' is not among the patterns."), "See 'jetfrost selection'."));
            }
        }
        for template in self.template {
            if !self.drop {
                selection.exclude_by(template);
            } else if !selection.drop_template(template) {
                return Err(Failure::here(
                    format!("'{}' is not among the templates.", template.word()),
                    "See 'jetfrost selection'.",
                ));
            }
        }
        state_dir.write_selection(&selection)?;
        self::selection(state_dir, None, ui)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum SelectionCommand {
    /// Lists the exclusion templates with their patterns and reasons.
    Templates,
    /// Shows what would be backed up, what each rule saves, and the largest things in it. Nothing is backed up.
    Estimate,
    /// Says why a file or folder is backed up, or which rule leaves it out.
    Why {
        /// The path; it need not be there any more.
        path: PathBuf,
    },
}

impl SelectionCommand {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        match self {
            Self::Templates => templates(&state_dir.selection()?, excluded_by_office(state_dir), ui),
            Self::Estimate => estimate_selection(state_dir, ui)?,
            Self::Why { path } => {
                let office = excluded_by_office(state_dir);
                let why = why(&state_dir.selection()?, office.unwrap_or_default(), state_dir.directory(), &path)?;
                ui.show(&why, |why| say_why(why, &path, ui));
                say_if_unknown(state_dir, office, ui);
            }
        }
        Ok(Code::Done)
    }
}

/// What administrators exclude here: as the service says, or else as its agent heard last; none where neither can be asked, or the machine
/// has not joined.
pub(crate) fn excluded_by_office(state_dir: &StateDir) -> Option<Templates> {
    excluded(this_workstation(state_dir).as_ref(), state_dir)
}

/// The same, where the service was asked already.
fn excluded(known: Option<&Workstation>, state_dir: &StateDir) -> Option<Templates> {
    let by_agent = || ask(state_dir, &Ask::Status).ok().map(|status| status.schedule.values.exclude);
    known.map(|w| w.schedule.values.exclude).or_else(by_agent)
}

/// What the service knows of this machine; none where it cannot be asked.
fn this_workstation(state_dir: &StateDir) -> Option<Workstation> {
    let (membership, api) = state_dir.device_api().ok()?;
    api.call_once(&calls::workstation(&membership.workstation)).ok()
}

fn say_if_unknown(state_dir: &StateDir, office: Option<Templates>, ui: &Ui) {
    if office.is_none() && state_dir.membership().is_ok() {
        ui.remark("What administrators exclude is not known now: neither the service nor an agent answers.");
    }
}

fn templates(selection: &Selection, office: Option<Templates>, ui: &Ui) {
    let by_office = |template: &Template| office.is_some_and(|office| office.contains(*template));
    let value: Vec<_> = Template::ALL
        .iter()
        .map(|template| {
            let in_use = selection.templates.contains(template);
            json!({ "name": template, "reason": template.reason(), "patterns": template.patterns(), "in_use": in_use, "by_office": by_office(template) })
        })
        .collect();
    ui.show(&value, |_| {
        for template in Template::ALL {
            let in_use = match (selection.templates.contains(template), by_office(template)) {
                (true, _) => " (in use)",
                (false, true) => " (set by an administrator)",
                (false, false) => "",
            };
            ui.line(&format!("{}{in_use}: {}", template.word(), template.reason()));
            ui.line(&format!("  {}", template.patterns().join("  ")));
        }
        ui.line("Next: jetfrost exclude --template NAME, then jetfrost selection estimate");
    });
}

/// What is known at the service that an estimate is held against.
struct Against {
    limit: Option<u64>,
    used: Option<u64>,
    /// Bytes a second that the last large run sent.
    rate: Option<f64>,
}

fn against(w: &Workstation) -> Against {
    let rate = w.latest_run.as_ref().and_then(|run| {
        let seconds = run.ended?.duration_since(run.started).as_secs_f64();
        (run.progress.sent > ENOUGH_TO_MEASURE && seconds > 0.0).then(|| run.progress.sent as f64 / seconds)
    });
    Against { limit: w.store.limit, used: w.store.used, rate }
}

/// A run that sent less says nothing of the rate.
const ENOUGH_TO_MEASURE: u64 = 50_000_000;

fn estimate_selection(state_dir: &StateDir, ui: &Ui) -> Result<(), Failure> {
    let known = this_workstation(state_dir);
    let office = excluded(known.as_ref(), state_dir);
    let found = estimate(&state_dir.selection()?, office.unwrap_or_default(), state_dir.directory())?;
    let against = known.as_ref().map(against);
    let value = json!({
        "estimate": found,
        "limit": against.as_ref().and_then(|known| known.limit),
        "used": against.as_ref().and_then(|known| known.used),
        "bytes_per_second": against.as_ref().and_then(|known| known.rate),
    });
    ui.show(&value, |_| {
        let amount = |of: &Amount| format!("{}, {}", many(of.files, "file"), show(of.bytes));
        ui.line(&format!("to back up   {}", amount(&found.included)));
        ui.line(&format!("left out     {}", amount(&found.excluded)));
        for (rule, saved) in &found.by_rule {
            ui.line(&format!("  {}  {}", amount(saved), named(rule)));
        }
        if !found.largest.is_empty() {
            ui.line("largest of what is backed up");
        }
        for (path, bytes) in &found.largest {
            ui.line(&format!("  {:>8}  {}", show(*bytes), shown_path(path_bytes(path))));
        }
        for volume in &found.other_volumes {
            ui.line(&format!(
                "not entered  {}: another volume; include it by name, or the folder --with-mounts",
                shown_path(path_bytes(volume))
            ));
        }
        if found.unreadable > 0 {
            ui.line(&format!("unreadable   {}; run this as the user who runs backups", many(found.unreadable, "name")));
        }
        say_against(&found, against.as_ref(), ui);
    });
    say_if_unknown(state_dir, office, ui);
    Ok(())
}

fn say_against(found: &Estimate, against: Option<&Against>, ui: &Ui) {
    let Some(known) = against else {
        ui.line("limit        not known: the service cannot be reached");
        return;
    };
    ui.line(&match known.limit {
        None => "limit        none".to_owned(),
        Some(limit) if found.included.bytes > limit => {
            format!(
                "limit        {}: the first backup may not fit. Exclude more, or ask the administrator for room.",
                show(limit)
            )
        }
        Some(limit) => format!(
            "limit        {}, {:.1} times what is backed up",
            show(limit),
            limit as f64 / found.included.bytes.max(1) as f64
        ),
    });
    ui.line(&match known.rate {
        None => "time         not known: no run has sent enough to measure the rate".to_owned(),
        Some(rate) => {
            let seconds = Duration::from_secs_f64(found.included.bytes as f64 / rate.max(1.0));
            format!(
                "time         about {} for all of it at {}/s, as the last run; a backup sends only what changed",
                took(seconds),
                show(rate as u64)
            )
        }
    });
}

/// A rule, with the template that it is part of.
fn named(rule: &Rule) -> String {
    match rule.template {
        None => rule.pattern.clone(),
        Some(template) if rule.by_office => format!("{} ({}, set by an administrator)", rule.pattern, template.word()),
        Some(template) => format!("{} ({})", rule.pattern, template.word()),
    }
}

fn say_why(why: &Why, path: &Path, ui: &Ui) {
    let shown = |path: &Path| shown_path(path_bytes(path));
    let it = shown(path);
    match why {
        Why::Included { folder } => ui.line(&format!("{it} is backed up: it is in {}, which is included.", shown(folder))),
        Why::Disk => ui.line(&format!("{it} is backed up as a disk.")),
        Why::NotIncluded { within } if within.is_empty() => {
            ui.line(&format!("{it} is not backed up: no included folder holds it."));
            ui.line(&format!("To back it up:  jetfrost include {it}"));
        }
        Why::NotIncluded { within } => {
            let names: Vec<String> = within.iter().map(|folder| shown(folder)).collect();
            ui.line(&format!("{it} is not backed up as a whole, only {} in it.", names.join(", ")));
        }
        Why::Excluded { rule, at } => {
            ui.line(&format!("{it} is not backed up: {} matches {}.", shown(at), named(rule)));
            if let Some(template) = rule.template {
                ui.line(&format!("The reason of that template: {}.", template.reason()));
            }
            ui.line(&format!("To back it up all the same:  jetfrost include {it}"));
        }
        Why::OtherVolume { mounted } => {
            ui.line(&format!("{it} is not backed up: another volume is mounted at {}.", shown(mounted)));
            ui.line(&format!("To back it up:  jetfrost include {}", shown(mounted)));
        }
        Why::NotMounted { folder } => {
            ui.line(&format!("{it} cannot be backed up now: the volume of {} is not mounted.", shown(folder)));
        }
        Why::BehindLink { link, real } => {
            ui.line(&format!("{it} is not backed up by this path: {} is a symbolic link and is backed up as one.", shown(link)));
            ui.line(&format!("What it leads to:  jetfrost selection why {}", shown(real)));
        }
        Why::Own => ui.line(&format!("{it} is not backed up: it is part of this program's own settings and keys.")),
    }
}

/// What is included and excluded on this machine, and by administrators as far as that was asked for.
#[derive(Serialize)]
struct Shown {
    #[serde(flatten)]
    selection: Selection,
    #[serde(skip_serializing_if = "Option::is_none")]
    excluded_by_office: Option<Templates>,
}

pub(crate) fn show_selection(state_dir: &StateDir, ui: &Ui) -> Done {
    let office = excluded_by_office(state_dir);
    let done = selection(state_dir, office, ui)?;
    say_if_unknown(state_dir, office, ui);
    Ok(done)
}

fn selection(state_dir: &StateDir, office: Option<Templates>, ui: &Ui) -> Done {
    let shown = Shown { selection: state_dir.selection()?, excluded_by_office: office };
    ui.show(&shown, |Shown { selection, .. }| {
        if selection.kinds().is_empty() {
            ui.line("Nothing is included yet. Next: jetfrost include FOLDER");
        }
        for folder in &selection.folders {
            let with = if selection.with_mounts.contains(folder) { " with what is mounted below it" } else { "" };
            ui.line(&format!("include  {}{with}", folder.0.display()));
        }
        for disk in &selection.disks {
            ui.line(&format!("disk     {}", disk.0.display()));
        }
        for pattern in &selection.exclude {
            ui.line(&format!("exclude  {pattern}"));
        }
        for template in &selection.templates {
            ui.line(&format!("exclude  template {}: {}", template.word(), template.reason()));
        }
        let more = office.into_iter().flat_map(Templates::iter).filter(|template| !selection.templates.contains(template));
        for template in more {
            ui.line(&format!("exclude  template {} (set by an administrator): {}", template.word(), template.reason()));
        }
        if !selection.folders.is_empty() {
            ui.line("Next: jetfrost selection estimate");
        }
    });
    Ok(Code::Done)
}
