//! `jetfrost restore-disk`: a disk as it was.

use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::disk::{DiskReport, Target, restore_disk};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::{FileKind, Paths, System};
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use serde_json::{Value, json};

use crate::commands::getting_back::disks::{as_bytes, of_point};
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct RestoreDisk {
    /// Path of the disk when it was backed up; needed only if the point holds several.
    disk: Option<PathBuf>,
    /// A new raw image file, or a block device, whose content is overwritten.
    #[arg(long, value_name = "TARGET")]
    to: PathBuf,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// The block device again, to confirm without a prompt.
    #[arg(long, value_name = "DEVICE")]
    confirm: Option<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl RestoreDisk {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Disk)?;
        let (disk, image) = browser.disk(&point, as_bytes(self.disk.as_deref()))?;
        let target = target(&self.to);
        if matches!(target, Target::Device(_)) {
            confirm(&self.to, self.confirm.as_deref(), image.len(), ui)?;
        }
        ui.remark(&format!("Restoring {} of {} to {}", shown_path(&disk.path), of_point(&point), self.to.display()));
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let report = restore_disk(&browser, &point, &image, &target, &meter);
        drop(shown);
        let report = report?;
        ui.show(&report_value(&report), |_| say_report(&report, &self.to, ui));
        Ok(if report.damaged.is_empty() && report.unsound.is_empty() { Code::Done } else { Code::Damage })
    }
}

/// What is there decides: a block device is overwritten, anything else is made.
fn target(path: &Path) -> Target {
    let is_device = System::metadata_behind(path).is_ok_and(|there| there.kind == Some(FileKind::BlockDevice));
    if is_device { Target::Device(path.into()) } else { Target::File(path.into()) }
}

/// The name of a device that is to be overwritten must be typed.
fn confirm(device: &Path, confirmed: Option<&Path>, bytes: u64, ui: &Ui) -> Result<(), Failure> {
    let typed = match confirmed {
        Some(path) => path.display().to_string(),
        None if std::io::stdin().is_terminal() => {
            ui.remark(&format!("The first {} of {} will be overwritten; what is on it is lost.", show(bytes), device.display()));
            let _ = write!(std::io::stderr(), "Type its name to go on: ");
            let mut line = String::new();
            let _ = std::io::stdin().read_line(&mut line);
            line.trim().to_owned()
        }
        None => String::new(),
    };
    if typed == device.display().to_string() {
        return Ok(());
    }
    let next = format!("Look twice which disk this is; then type its name when asked, or give --confirm {}.", device.display());
    Err(Failure::here(format!("{} is not overwritten: its name was not typed.", device.display()), next))
}

fn report_value(report: &DiskReport) -> Value {
    let stretches = |list: &[std::ops::Range<u64>]| -> Vec<Value> {
        list.iter().map(|stretch| json!({ "from": stretch.start, "to": stretch.end })).collect()
    };
    json!({
        "bytes": report.bytes, "written": report.written, "fetched": report.fetched, "damaged": stretches(&report.damaged),
        "unsound": stretches(&report.unsound), "seconds": report.took.as_secs_f64(),
    })
}

fn say_report(report: &DiskReport, to: &Path, ui: &Ui) {
    let rate = at_rate(report.bytes, report.took);
    ui.line(&format!("{}, in {}{rate}, to {}.", show(report.bytes), took(report.took), to.display()));
    ui.line(&format!("Written {}; the rest was zeros or there already.", show(report.written)));
    let list = |stretches: &[std::ops::Range<u64>]| {
        for stretch in stretches {
            ui.line(&format!("  bytes {} to {}", stretch.start, stretch.end));
        }
    };
    if !report.damaged.is_empty() {
        ui.line("Damaged in the image store, and zeros here:");
        list(&report.damaged);
        ui.line("Another point may still hold them: try an earlier or a later one, onto another target.");
    }
    if !report.unsound.is_empty() {
        ui.line("These do not read back as they were written; the target is failing:");
        list(&report.unsound);
    }
    if report.damaged.is_empty() && report.unsound.is_empty() {
        ui.line("The disk was read back and matches the backup.");
    }
}
