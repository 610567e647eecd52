//! `jetfrost restore`: files as they were.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::ClientError;
use jetfrost_client::browse::{At, Browser, Missing, OpenPoint};
use jetfrost_client::restore::{RestoreReport, Rights, Trouble, Wish, restore};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::salvage::ReadFrom;
use crate::commands::interrupt::stoppable_meter;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, many, moment, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Restore {
    /// Absolute paths of files or folders; everything unless given.
    paths: Vec<PathBuf>,
    /// Directory to restore into. Selected paths keep their last name; a whole point keeps its folders.
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// The point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// Replace existing files. Without it they are left alone and listed.
    #[arg(long)]
    replace: bool,
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
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        ui.remark(&format!("Restoring from point {} ({created}) to {}", point.head.sequence, self.to.display()));
        let rights = match (self.special, self.no_special) {
            (true, _) => Rights::Keep,
            (_, true) => Rights::LeaveOut,
            (false, false) => Rights::default(),
        };
        let wish = Wish { paths: self.paths, into: self.to, replace: self.replace, rights };
        let meter = stoppable_meter();
        let report = {
            let _shown = ui.progress(&meter, self.quiet);
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

/// Of a path that is not in the point: the pattern that left it out and since when, if the point says so.
fn why_not_there(error: ClientError, browser: &Browser, point: &OpenPoint, wish: &Wish) -> Failure {
    if !matches!(error, ClientError::NoPath(_)) {
        return error.into();
    }
    let number = point.head.sequence;
    let missing = wish.paths.iter().find_map(|path| {
        let absolute = std::path::absolute(path).ok()?;
        let why = browser.why_missing(point, path_bytes(&absolute)).ok()??;
        Some((shown_path(path_bytes(&absolute)), why))
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

fn say_restore(report: &RestoreReport, wish: &Wish, ui: &Ui) {
    let troubles: Vec<_> = report
        .troubles
        .iter()
        .map(|t| json!({ "path": t.path.display().to_string(), "trouble": labels::trouble(t.trouble), "explanation": t.explanation }))
        .collect();
    let value = json!({
        "progress": report.progress, "troubles": troubles, "seconds": report.took.as_secs_f64(),
        "special_left_out": report.rights_left_out, "on_record": report.not_on_record.is_none(),
    });
    ui.show(&value, |_| {
        let p = &report.progress;
        let (files, bytes) = (many(p.files_done, "file"), show(p.bytes_done));
        ui.line(&format!(
            "{files}, {bytes}, in {}{}, to {}.",
            took(report.took),
            at_rate(p.bytes_done, report.took),
            wish.into.display()
        ));
        if let Some(why) = &report.not_on_record {
            ui.line(&format!("The service could not put this restore on record: {why}. Tell the administrator."));
        }
        if report.rights_left_out > 0 {
            ui.line(&format!(
                "Left out: {} (device nodes, set-user-id and set-group-id bits, capabilities). To bring them back: --special --replace",
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
