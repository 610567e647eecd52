//! `jetfrost restore`: files as they were.

use std::io::Write;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use clap::{Args, ValueEnum};
use jetfrost_client::ClientError;
use jetfrost_client::browse::{At, Browser, Doubt, Missing, OpenPoint};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{
    Act, Asking, Conflict, OnConflict, Previewed, Resolution, RestoreReport, Rights, Target, Trouble, Wish, preview, restore,
};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::getting_back::{absolute, troubles_as_json};
use crate::commands::interrupt::stoppable_meter;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, count, many, moment, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Restore {
    /// Files or folders, by the paths that they had. They are restored to where they were unless you say otherwise.
    paths: Vec<PathBuf>,
    /// Directory to restore into. Selected paths keep their last name; a whole point keeps its folders.
    #[arg(long, value_name = "DIR", group = "where_to")]
    to: Option<PathBuf>,
    /// Restore to where they were, but under a name with the point's time in it.
    #[arg(long, group = "where_to", requires = "paths")]
    beside: bool,
    /// Restore to where they were. Say so to restore a whole point; for named paths it is the default.
    #[arg(long, group = "where_to")]
    in_place: bool,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// What to do where something else has the name. A file with the same content is left as it is.
    #[arg(long, value_name = "RULE", value_enum, default_value_t = Rule::KeepBoth)]
    on_conflict: Rule,
    /// Show what would be restored, and change nothing.
    #[arg(long)]
    dry_run: bool,
    /// Restore device nodes, set-user-id and set-group-id bits and capabilities even when root restores to a place other than /.
    #[arg(long, conflicts_with = "no_special")]
    special: bool,
    /// Leave those out: the default for root, except to /.
    #[arg(long)]
    no_special: bool,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Restore {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let target = self.target()?;
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        let (asks, on_conflict) = (matches!(self.on_conflict, Rule::Ask), self.on_conflict.with(ui)?);
        let rights = match (self.special, self.no_special) {
            (true, _) => Rights::Keep,
            (_, true) => Rights::LeaveOut,
            (false, false) => Rights::default(),
        };
        let wish = Wish::paths(absolute(&self.paths)?, target).on_conflict(on_conflict).rights(rights);
        let meter = stoppable_meter();
        if let Some(doubt) = &point.doubt {
            ui.remark(&warning(doubt, &point));
        }
        if self.dry_run {
            ui.remark(&format!("From point {} ({created}) {}:", point.head.sequence, where_to(&wish.target)));
            return say_preview(&browser, &point, &wish, &meter, ui);
        }
        ui.remark(&format!("Restoring from point {} ({created}) {}", point.head.sequence, where_to(&wish.target)));
        let report = {
            let _shown = ui.progress(&meter, self.quiet || asks);
            restore(&browser, &point, &wish, &meter).map_err(|error| why_not_there(error, &browser, &point, &wish))?
        };
        say_restore(&report, &wish, ui);
        let any = |kind: Trouble| report.troubles.iter().any(|t| t.trouble == kind);
        Ok(if any(Trouble::Damaged) {
            Code::Damage
        } else if any(Trouble::NoRoom) {
            Code::NoRoom
        } else if report.troubles.is_empty() {
            Code::Done
        } else {
            Code::WithExceptions
        })
    }
}

impl Restore {
    fn target(&self) -> Result<Target, Failure> {
        match &self.to {
            Some(directory) => Ok(Target::Into(directory.clone())),
            None if self.beside => Ok(Target::Beside),
            None if self.paths.is_empty() && !self.in_place => Err(Failure::here(
                "It is not said what to restore.",
                "Name files or folders, or restore the whole point: --to DIR, or --in-place.",
            )),
            None => Ok(Target::Original),
        }
    }
}

/// What speaks against a point, and which one to take instead.
pub(crate) fn warning(doubt: &Doubt, point: &OpenPoint) -> String {
    let Doubt { suspect, suspicion, last_good } = doubt;
    let after = if *suspect == point.head.sequence { "" } else { ", and this one was made after it" };
    let instead = match last_good {
        Some(good) => format!("Last good point: {good}. To restore from it: --at last-good"),
        None => "There is no good point before it.".into(),
    };
    format!("Careful: point {suspect} {}{after}. {instead}", labels::suspicion(*suspicion))
}

/// What to do where something else has the name.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Rule {
    /// What is restored gets a name with the point's time in it.
    KeepBoth,
    /// What is there stays, and nothing is restored.
    Skip,
    /// What is there is replaced. A folder never is.
    Replace,
    /// Ask each time.
    Ask,
}

impl Rule {
    fn with(self, ui: &Ui) -> Result<OnConflict, Failure> {
        match self {
            Self::KeepBoth => Ok(OnConflict::KeepBoth),
            Self::Skip => Ok(OnConflict::Skip),
            Self::Replace => Ok(OnConflict::Replace),
            Self::Ask if ui.is_terminal() => Ok(OnConflict::Ask(asking())),
            Self::Ask => Err(Failure::here("There is no terminal to ask at.", "Give --on-conflict keep-both, skip or replace.")),
        }
    }
}

/// Asks at the terminal, until somebody answers for all that follow.
fn asking() -> Asking {
    let for_all: Mutex<Option<Resolution>> = Mutex::new(None);
    Asking(Arc::new(move |conflict| {
        let mut for_all = for_all.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(resolution) = *for_all {
            return resolution;
        }
        let (resolution, is_for_all) = ask(conflict);
        *for_all = is_for_all.then_some(resolution);
        resolution
    }))
}

/// What somebody decides, and whether for all that follow. When nobody is there any more, what is there stays.
fn ask(conflict: &Conflict<'_>) -> (Resolution, bool) {
    let changed = |seconds| Timestamp::from_second(seconds).map(moment).unwrap_or_default();
    let (there, entry) = (conflict.there, conflict.entry);
    let mut terminal = std::io::stderr();
    let _ = writeln!(terminal, "{} is there.", shown_path(path_bytes(conflict.path)));
    let _ = writeln!(terminal, "  there     {}, changed {}", show(there.size), changed(there.modified.seconds));
    let _ = writeln!(terminal, "  restored  {}, changed {}", show(entry.len()), changed(entry.mtime));
    loop {
        let _ = write!(terminal, "Keep (b)oth, (s)kip or (r)eplace? A capital letter: the same for all that follow. ");
        let mut answer = String::new();
        if !std::io::stdin().read_line(&mut answer).is_ok_and(|read| read > 0) {
            return (Resolution::Skip, true);
        }
        let resolution = match answer.trim() {
            "b" | "B" => Resolution::KeepBoth,
            "s" | "S" => Resolution::Skip,
            "r" | "R" => Resolution::Replace,
            _ => continue,
        };
        return (resolution, answer.starts_with(char::is_uppercase));
    }
}

fn where_to(target: &Target) -> String {
    match target {
        Target::Into(directory) => format!("to {}", directory.display()),
        Target::Original => "to where it was".into(),
        Target::Beside => "to where it was, under another name".into(),
    }
}

/// What would be restored. Files that are there already are only counted.
fn say_preview(browser: &Browser, point: &OpenPoint, wish: &Wish, meter: &Arc<Meter>, ui: &Ui) -> Done {
    let mut items = Vec::new();
    let found = preview(browser, point, wish, meter, &mut |item: &Previewed| {
        if ui.is_json() {
            items.push(as_json(item));
        } else {
            ui.line(&as_line(item));
        }
    });
    let found = found.map_err(|error| why_not_there(error, browser, point, wish))?;
    let value = json!({
        "items": items, "files": found.files, "bytes": found.bytes,
        "already_there": found.already_there, "conflicts": found.conflicts,
    });
    ui.show(&value, |_| {
        let (files, bytes) = (many(found.files, "file"), show(found.bytes));
        ui.line(&format!("Would restore {files}, {bytes}. Nothing was changed."));
        if found.already_there > 0 {
            ui.line(&format!("{} there already, with the same content.", are(found.already_there)));
        }
    });
    Ok(Code::Done)
}

fn are(items: u64) -> String {
    format!("{} {}", many(items, "item"), if items == 1 { "is" } else { "are" })
}

fn as_json(item: &Previewed) -> serde_json::Value {
    let (act, to, why) = match &item.act {
        Act::New => ("restore", None, None),
        Act::Renamed(to) => ("restore_renamed", Some(to.display().to_string()), None),
        Act::Replaces => ("replace", None, None),
        Act::Asks => ("ask", None, None),
        Act::Stays(why) => ("leave", None, Some(*why)),
    };
    let path = item.path.display().to_string();
    json!({ "path": path, "action": act, "to": to, "reason": why, "files": item.files, "bytes": item.bytes })
}

fn as_line(item: &Previewed) -> String {
    let path = shown_path(path_bytes(&item.path));
    let size = match item.files {
        1 => show(item.bytes),
        files => format!("{}, {}", many(files, "file"), show(item.bytes)),
    };
    match &item.act {
        Act::New => format!("  restore  {path}  {size}"),
        Act::Renamed(to) => format!("  restore  {path}  {size}, as {}", to.file_name().unwrap_or_default().display()),
        Act::Replaces => format!("  replace  {path}  {size}"),
        Act::Asks => format!("  ask      {path}  something else is there"),
        Act::Stays(why) => format!("  leave    {path}  {why}"),
    }
}

/// Of a path that is not in the point: the pattern that left it out and since when, if the point says so.
fn why_not_there(error: ClientError, browser: &Browser, point: &OpenPoint, wish: &Wish) -> Failure {
    if !matches!(error, ClientError::NoPath(_)) {
        return error.into();
    }
    let number = point.head.sequence;
    let missing = wish.paths.iter().find_map(|path| {
        let why = browser.why_missing(point, path_bytes(path)).ok()??;
        Some((shown_path(path_bytes(path)), why))
    });
    match missing {
        Some((path, Missing::Excluded { pattern, at, since })) => {
            let made = Timestamp::from_millisecond(since.created).map(moment).unwrap_or_default();
            let at = shown_path(&at);
            Failure::here(
                format!(
                    "{path} is not in point {number}: {at} matches the pattern {pattern}, excluded since point {} ({made}).",
                    since.sequence
                ),
                "See whether an earlier point has it: jetfrost points, then --at NUMBER. To back it up from now on: jetfrost include PATH",
            )
        }
        Some((path, Missing::NotIncluded)) => Failure::here(
            format!("{path} is not in point {number}: no folder that was included then holds it."),
            "See what was included: jetfrost look. To back it up from now on: jetfrost include PATH",
        ),
        None => error.into(),
    }
}

/// Names that are listed; the others are counted.
const LISTED: usize = 20;

fn say_kept_both(kept_both: &[(PathBuf, PathBuf)], ui: &Ui) {
    if kept_both.is_empty() {
        return;
    }
    ui.line(&format!("{} under another name:", many(kept_both.len() as u64, "item")));
    for (_, placed) in kept_both.iter().take(LISTED) {
        ui.line(&format!("  {}", shown_path(path_bytes(placed))));
    }
    if let Some(more) = kept_both.len().checked_sub(LISTED).filter(|more| *more > 0) {
        ui.line(&format!("  and {} more; --json lists all", count(more as u64)));
    }
}

fn say_restore(report: &RestoreReport, wish: &Wish, ui: &Ui) {
    let troubles = troubles_as_json(&report.troubles);
    let pair = |(wanted, placed): &(PathBuf, PathBuf)| json!({ "path": wanted.display().to_string(), "as": placed.display().to_string() });
    let kept_both: Vec<_> = report.kept_both.iter().map(pair).collect();
    let value = json!({
        "progress": report.progress, "troubles": troubles, "seconds": report.took.as_secs_f64(),
        "kept_both": kept_both, "already_there": report.already_there, "special_left_out": report.rights_left_out, "on_record": report.not_on_record.is_none(),
    });
    ui.show(&value, |_| {
        let p = &report.progress;
        let (files, bytes) = (many(p.files_done, "file"), show(p.bytes_done));
        let (time, rate) = (took(report.took), at_rate(p.bytes_done, report.took));
        ui.line(&format!("{files}, {bytes}, in {time}{rate}, {}.", where_to(&wish.target)));
        if report.already_there > 0 {
            ui.line(&format!("{} there already, with the same content.", are(report.already_there)));
        }
        say_kept_both(&report.kept_both, ui);
        if let Some(why) = &report.not_on_record {
            ui.line(&format!("The service could not put this restore on record: {why}. Tell the administrator."));
        }
        if report.rights_left_out > 0 {
            ui.line(&format!(
                "Left out: {} (device nodes, set-user-id and set-group-id bits, capabilities). To bring them back: --special --on-conflict replace",
                many(report.rights_left_out, "special right")
            ));
        }
        if report.owners_left {
            ui.line("Owners are this user, since only root can set others.");
        }
        if !report.troubles.is_empty() {
            ui.line(&format!("{} could not be restored exactly:", many(report.troubles.len() as u64, "item")));
            for trouble in &report.troubles {
                ui.line(&format!("  {}  {}", shown_path(path_bytes(&trouble.path)), trouble.explanation));
            }
        }
    });
}
