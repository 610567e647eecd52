//! Rehearsing a restore.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::drill::{Drawing, DrillReport, Rehearsal, drill};
use jetfrost_client::restore::Trouble;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::salvage::ReadFrom;
use crate::commands::getting_back::troubles_as_json;
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, many, moment, shown_path, took};

#[derive(Debug, Args)]
pub(crate) struct Drill {
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// Percentage of files to restore, at least twenty: drawn at random, and by turns from what no drill has restored yet.
    #[arg(long, default_value_t = Rehearsal::USUAL_SHARE, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=100))]
    share: u8,
    /// Restore about this much at most. Larger files are never drawn.
    #[arg(long, default_value = "2GB", value_name = "SIZE", value_parser = size::parse)]
    most: u64,
    /// Directory for the restored files, which are removed afterwards [default: beside this machine's settings].
    #[arg(long = "in", value_name = "DIR")]
    scratch: Option<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Drill {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Result<Code, Failure> {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        let scratch = self.scratch.unwrap_or_else(|| state_dir.directory().into());
        ui.remark(&format!("Rehearsing a restore of point {} ({created}) in {}", point.head.sequence, scratch.display()));
        let memory = Some(Rehearsal::memory_in(state_dir.directory()));
        let how = Rehearsal { share: self.share, most: self.most, scratch, memory };
        let meter = stoppable_meter();
        let report = {
            let _shown = ui.progress(&meter, self.quiet);
            drill(&browser, &point, &how, &meter)?
        };
        say(&report, point.head.sequence, point.head.files, ui);
        let is_damage = report.troubles.iter().any(|t| matches!(t.trouble, Trouble::Damaged | Trouble::Differs));
        Ok(if is_damage {
            Code::Damage
        } else if report.troubles.is_empty() {
            Code::Done
        } else {
            Code::WithExceptions
        })
    }
}

fn say(report: &DrillReport, point: u64, of: u64, ui: &Ui) {
    let troubles = troubles_as_json(&report.troubles);
    let value = json!({
        "point": point, "progress": report.progress, "compared_here": report.compared_here, "troubles": troubles,
        "drawn": report.drawing.word(), "seconds": report.took.as_secs_f64(),
    });
    ui.show(&value, |_| {
        let p = &report.progress;
        ui.line(&format!(
            "Restored {} of {}, {}, and read them back in {}{}.",
            many(p.files_done, "file"),
            crate::ui::count(of),
            size::show(p.bytes_done),
            took(report.took),
            at_rate(p.bytes_done, report.took)
        ));
        if report.drawing == Drawing::Unproven {
            ui.line("They were drawn from what no drill had restored before, half of them the newest.");
        }
        if report.compared_here > 0 {
            let are = if report.compared_here == 1 { "is" } else { "are" };
            ui.line(&format!(
                "{} of them {are} unchanged on this workstation, and matched byte by byte.",
                crate::ui::count(report.compared_here)
            ));
        }
        if troubles.is_empty() {
            ui.line(&format!("Everything matches. Point {point} can be restored; this is on record."));
            return;
        }
        ui.line(&format!("{} could not be restored exactly:", many(troubles.len() as u64, "item")));
        for trouble in &report.troubles {
            ui.line(&format!("  {}  {}", shown_path(trouble.path.as_os_str().as_encoded_bytes()), trouble.explanation));
        }
        ui.line("This is on record. Next: tell the administrator; an earlier point may be sound.");
    });
}
