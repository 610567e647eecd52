//! Rehearsing a restore.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::disk::file_systems::{FileSystem, Found};
use jetfrost_client::drill::{DiskDrillReport, Drawing, DrillReport, DrilledDisk, Rehearsal, drill, drill_disks};
use jetfrost_client::restore::{NotRestored, Trouble};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::getting_back::troubles_as_json;
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, count, many, moment, shown_path, took};

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
    /// Rehearses a restore of disks: extents are drawn instead of files, and partition tables and ext4 file systems are opened.
    #[arg(long)]
    disks: bool,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Drill {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Result<Code, Failure> {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, if self.disks { PointKind::Disk } else { PointKind::Files })?;
        let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        let scratch = self.scratch.unwrap_or_else(|| state_dir.directory().into());
        ui.remark(&format!("Rehearsing a restore of point {} ({created}) in {}", point.head.sequence, scratch.display()));
        let memory = (!self.from.is_elsewhere()).then(|| Rehearsal::memory_in(state_dir.directory()));
        let how = Rehearsal { share: self.share, most: self.most, scratch, memory };
        let meter = stoppable_meter();
        if self.disks {
            let report = {
                let _shown = ui.progress(&meter, self.quiet);
                drill_disks(&browser, &point, &how, &meter)?
            };
            say_disks(&report, point.head.sequence, ui);
            return Ok(code(&report.troubles));
        }
        let report = {
            let _shown = ui.progress(&meter, self.quiet);
            drill(&browser, &point, &how, &meter)?
        };
        say(&report, point.head.sequence, point.head.files, ui);
        Ok(code(&report.troubles))
    }
}

fn code(troubles: &[NotRestored]) -> Code {
    if troubles.iter().any(|t| matches!(t.trouble, Trouble::Damaged | Trouble::Differs)) {
        Code::Damage
    } else if troubles.is_empty() {
        Code::Done
    } else {
        Code::WithExceptions
    }
}

fn say(report: &DrillReport, point: u64, of: u64, ui: &Ui) {
    let troubles = troubles_as_json(&report.troubles);
    let value = json!({
        "point": point, "progress": report.progress, "compared_here": report.compared_here, "troubles": troubles,
        "drawn": report.drawing.word(), "near_damage": report.near_damage, "seconds": report.took.as_secs_f64(),
    });
    ui.show(&value, |_| {
        let p = &report.progress;
        ui.line(&format!(
            "Restored {} of {}, {}, and read them back in {}{}.",
            many(p.files_done, "file"),
            count(of),
            size::show(p.bytes_done),
            took(report.took),
            at_rate(p.bytes_done, report.took)
        ));
        if report.drawing == Drawing::Unproven {
            ui.line("They were drawn from what no drill had restored before, half of them the newest.");
        }
        if report.near_damage > 0 {
            let lay = format!("{} of them lay near damage in the image store, and came back.", count(report.near_damage));
            ui.line(&lay);
        }
        if report.compared_here > 0 {
            let are = if report.compared_here == 1 { "is" } else { "are" };
            ui.line(&format!(
                "{} of them {are} unchanged on this workstation, and matched byte by byte.",
                count(report.compared_here)
            ));
        }
        say_outcome(&report.troubles, point, ui);
    });
}

fn say_outcome(troubles: &[NotRestored], point: u64, ui: &Ui) {
    if troubles.is_empty() {
        ui.line(&format!("Everything matches. Point {point} can be restored; this is on record."));
        return;
    }
    ui.line(&format!("{} could not be restored exactly:", many(troubles.len() as u64, "item")));
    for trouble in troubles {
        ui.line(&format!("  {}  {}", shown_path(trouble.path.as_os_str().as_encoded_bytes()), trouble.explanation));
    }
    ui.line("This is on record. Next: tell the administrator; an earlier point may be sound.");
}

fn say_disks(report: &DiskDrillReport, point: u64, ui: &Ui) {
    let disk = |disk: &DrilledDisk| {
        json!({
            "path": disk.path.display().to_string(), "extents": disk.extents, "of": disk.of, "near_damage": disk.near_damage, "compared_here": disk.compared_here,
            "table": disk.table.as_ref().map(|table| table.scheme.word()),
            "file_systems": disk.file_systems.iter().map(found_as_json).collect::<Vec<_>>(),
        })
    };
    let value = json!({
        "point": point, "progress": report.progress, "disks": report.disks.iter().map(disk).collect::<Vec<_>>(),
        "troubles": troubles_as_json(&report.troubles), "seconds": report.took.as_secs_f64(),
    });
    ui.show(&value, |_| {
        for disk in &report.disks {
            ui.line(&format!(
                "{}: restored {} of {} and read them back.",
                shown_path(disk.path.as_os_str().as_encoded_bytes()),
                many(disk.extents, "extent"),
                count(disk.of)
            ));
            if let Some(table) = &disk.table {
                ui.line(&format!("  Partition table: {}.", table.in_words()));
            }
            for found in &disk.file_systems {
                let place = found.partition.map_or_else(|| "Disk".into(), |number| format!("Partition {number}"));
                ui.line(&format!("  {place}: {}.", found.what.in_words()));
            }
            if disk.near_damage > 0 {
                ui.line(&format!("  {} of them lay near damage in the image store, and came back.", count(disk.near_damage)));
            }
            if disk.compared_here > 0 {
                ui.line(&format!(
                    "  {} matched the image file on this workstation, which is unchanged.",
                    many(disk.compared_here, "extent")
                ));
            }
        }
        ui.line(&format!(
            "{} in {}{}.",
            size::show(report.progress.bytes_done),
            took(report.took),
            at_rate(report.progress.bytes_done, report.took)
        ));
        say_outcome(&report.troubles, point, ui);
    });
}

fn found_as_json(found: &Found) -> serde_json::Value {
    let (what, kind) = match &found.what {
        FileSystem::Opens(_) => ("opens", "ext4"),
        FileSystem::DoesNotOpen(_) => ("does_not_open", "ext4"),
        FileSystem::Known(kind) => ("not_tried", *kind),
    };
    json!({ "partition": found.partition, "kind": kind, "result": what })
}
