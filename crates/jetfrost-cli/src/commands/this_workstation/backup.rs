//! `jetfrost backup`: recovery points of folders and disks.

use clap::Args;
use jetfrost_client::backup::{BackupReport, ReadBack, back_up};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use serde_json::json;

use crate::commands::interrupt::stoppable_meter;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, count, many, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Backup {
    /// Back up only folders or only disks [default: both, each as a point of its own].
    #[arg(long, value_enum, value_name = "KIND")]
    only: Option<Kind>,
    /// Continue from the service's latest point although this workstation has made newer ones. Find out why first.
    #[arg(long)]
    go_on_from_older: bool,
    /// Read back everything that was sent before committing the point, instead of a random sample.
    #[arg(long)]
    read_back: bool,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
}

/// What a point is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Kind {
    Files,
    Disks,
}

impl From<Kind> for PointKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Files => Self::Files,
            Kind::Disks => Self::Disk,
        }
    }
}

impl Backup {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut kinds =
            self.only.map_or_else(|| state_dir.selection().map(|selection| selection.kinds()), |only| Ok(vec![only.into()]))?;
        if kinds.is_empty() {
            // The engine says what is missing.
            kinds.push(PointKind::Files);
        }
        if self.go_on_from_older {
            state_dir.forget_seen()?;
        }
        let read_back = if self.read_back { ReadBack::Everything } else { ReadBack::Sample };
        let reports = made(state_dir, kinds, read_back, self.quiet, ui)?;
        let value = json!({ "points": reports.iter().map(backup_value).collect::<Vec<_>>() });
        ui.show(&value, |_| reports.iter().for_each(|report| say_backup(report, ui)));
        Ok(code_of(&reports))
    }
}

/// The first backup of a workstation that has just joined, for people; programs are told the code. Should it fail, the joining stands.
pub(crate) fn first_backup(state_dir: &StateDir, ui: &Ui) -> Done {
    match made(state_dir, state_dir.selection()?.kinds(), ReadBack::Sample, false, ui) {
        Ok(reports) => {
            if !ui.is_json() {
                reports.iter().for_each(|report| say_backup(report, ui));
            }
            Ok(code_of(&reports))
        }
        Err(failure) => {
            ui.failure(&failure);
            Ok(failure.code())
        }
    }
}

fn made(
    state_dir: &StateDir,
    kinds: Vec<PointKind>,
    read_back: ReadBack,
    quiet: bool,
    ui: &Ui,
) -> Result<Vec<BackupReport>, Failure> {
    let make = |kind| {
        let meter = stoppable_meter();
        let _shown = ui.progress(&meter, quiet);
        Ok(back_up(state_dir, kind, read_back, &meter)?)
    };
    kinds.into_iter().map(make).collect()
}

fn code_of(reports: &[BackupReport]) -> Code {
    let has_exceptions = reports.iter().any(|report| report.exceptions.total() > 0 || report.after_failed.is_some());
    let is_damaged = reports.iter().any(|report| !report.damaged_points.is_empty());
    match (is_damaged, has_exceptions) {
        (true, _) => Code::Damage,
        (false, true) => Code::WithExceptions,
        (false, false) => Code::Done,
    }
}

fn backup_value(report: &BackupReport) -> serde_json::Value {
    json!({
        "point": report.point, "files_read": report.counts.read, "skipped": report.counts.skipped,
        "mounts_not_entered": report.counts.mounts, "exceptions": report.exceptions, "sent": report.sent,
        "seconds": report.took.as_secs_f64(), "damaged_points": report.damaged_points, "after_failed": report.after_failed,
        "snapshots": snapshots(report), "no_snapshot": report.no_snapshot,
    })
}

/// Where the volumes begin that were read from a snapshot.
fn snapshots(report: &BackupReport) -> Vec<String> {
    report.snapshots.iter().map(|volume| shown_path(path_bytes(volume))).collect()
}

fn say_backup(report: &BackupReport, ui: &Ui) {
    let point = &report.point;
    let noun = labels::noun(point.kind);
    ui.line(&format!(
        "Point {} is {}: {}, {}. Read {}, sent {}, in {}{}.",
        point.sequence,
        if report.exceptions.total() == 0 { "complete" } else { "made, with exceptions" },
        many(point.files, noun),
        show(point.bytes),
        many(report.counts.read, noun),
        show(report.sent),
        took(report.took),
        at_rate(point.bytes, report.took),
    ));
    if let Some(suspicion) = point.suspicion {
        ui.line(&format!(
            "Careful: point {} {}. If you did not do that, disconnect this machine and tell the administrator. Older points are kept.",
            point.sequence,
            labels::suspicion(Some(suspicion))
        ));
    }
    if !report.snapshots.is_empty() {
        ui.line(&format!("As it was at one moment, from a snapshot of {}.", snapshots(report).join(", ")));
    }
    if let Some(why) = &report.no_snapshot {
        ui.line(&format!("Read without a snapshot: {why}."));
    }
    if report.counts.skipped > 0 {
        ui.line(&format!("Left out by patterns: {}.", count(report.counts.skipped)));
    }
    if report.counts.mounts > 0 {
        ui.line(&format!(
            "Not entered, since they are other volumes: {} folders. If they matter, include them by name, or the folder --with-mounts.",
            report.counts.mounts
        ));
    }
    if let Some(why) = &report.after_failed {
        ui.line(&format!("The command after the backup failed: {why}. The point stands."));
    }
    if let Some(error) = &report.not_remembered {
        ui.line(&format!("This machine could not remember the walk ({error}): the next run reads everything again."));
    }
    if !report.damaged_points.is_empty() {
        let numbers: Vec<String> = report.damaged_points.iter().map(ToString::to_string).collect();
        ui.line(&format!("At the service, recovery points are damaged or lost: {}. Tell the administrator.", numbers.join(", ")));
    }
    let exceptions = report.exceptions.total();
    if exceptions > 0 {
        ui.line(&format!("With {}:", many(exceptions, "exception")));
        for exception in report.listed.iter().take(10) {
            ui.line(&format!("  {}  {}", shown_path(&exception.path), exception.explanation));
        }
        if exceptions > 10 {
            ui.line("  … see 'jetfrost exceptions' for all.");
        }
    }
}
