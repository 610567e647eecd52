//! Disks at a workstation: what points hold, bringing one back, attaching one.

use std::io::{IsTerminal, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Args;
use jetfrost_client::attach::{Listen, attach};
use jetfrost_client::browse::{At, OpenPoint};
use jetfrost_client::disk::{Disk, DiskReport, Target, bring_back};
use jetfrost_client::home::Home;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::interrupt::{ended_by_key, stoppable_meter};
use super::salvage::ReadFrom;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, many, moment, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Disks {
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Disks {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.point(&self.at, PointKind::Disk)?;
        let disks = browser.disks(&point)?;
        ui.show(&disks.iter().map(disk_value).collect::<Vec<_>>(), |_| {
            ui.remark(&format!("Disks as of {}", of_point(&point)));
            disks.iter().for_each(|disk| say_disk(disk, ui));
            if disks.is_empty() {
                ui.line("There is no disk in this point.");
            }
        });
        Ok(Code::Done)
    }
}

fn disk_value(disk: &Disk) -> Value {
    let partitions = disk.table.iter().flat_map(|table| &table.partitions);
    let partitions: Vec<Value> = partitions
        .map(|p| json!({ "number": p.number, "start": p.start, "bytes": p.len, "purpose": p.purpose, "name": p.name }))
        .collect();
    json!({
        "path": shown_path(&disk.path), "bytes": disk.entry.len(),
        "table": disk.table.as_ref().map(|table| table.scheme.word().to_lowercase()), "partitions": partitions,
    })
}

fn say_disk(disk: &Disk, ui: &Ui) {
    let table = match &disk.table {
        None => "no partition table".into(),
        Some(table) => {
            let copy = if table.from_copy { "; the first is damaged, this is its copy at the end of the disk" } else { "" };
            format!("{}, {}{copy}", table.scheme.word(), many(table.partitions.len() as u64, "partition"))
        }
    };
    ui.line(&format!("{}  {}, {table}", shown_path(&disk.path), show(disk.entry.len())));
    let partitions = disk.table.iter().flat_map(|table| &table.partitions);
    let rows: Vec<Vec<String>> = partitions
        .map(|p| vec![format!("  {}", p.number), show(p.start), show(p.len), p.purpose.clone(), p.name.clone()])
        .collect();
    // Classical tables have no names.
    let name = if rows.iter().all(|row| row[4].is_empty()) { "" } else { "name" };
    if !rows.is_empty() {
        ui.table(&["  part", "begins at", "size", "for", name], rows, &[1, 2], "");
    }
}

fn of_point(point: &OpenPoint) -> String {
    let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
    format!("point {} ({created})", point.head.sequence)
}

#[derive(Debug, Args)]
pub(crate) struct RestoreDisk {
    /// The path under which the disk was backed up; not needed when the point holds one disk.
    disk: Option<PathBuf>,
    /// A new raw image file, or a block device, whose content is overwritten.
    #[arg(long, value_name = "TARGET")]
    to: PathBuf,
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// The block device once more, in place of typing it when asked.
    #[arg(long, value_name = "DEVICE")]
    confirm: Option<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl RestoreDisk {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.point(&self.at, PointKind::Disk)?;
        let (disk, image) = browser.disk(&point, as_bytes(self.disk.as_deref()))?;
        let target = target(&self.to);
        if matches!(target, Target::Device(_)) {
            confirm(&self.to, self.confirm.as_deref(), image.len(), ui)?;
        }
        ui.remark(&format!("Restoring {} of {} to {}", shown_path(&disk.path), of_point(&point), self.to.display()));
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let report = bring_back(&browser, &point, &image, &target, &meter);
        drop(shown);
        let report = report?;
        ui.show(&report_value(&report), |_| say_report(&report, &self.to, ui));
        Ok(if report.damaged.is_empty() && report.unsound.is_empty() { Code::Done } else { Code::Damage })
    }
}

fn as_bytes(path: Option<&Path>) -> Option<&[u8]> {
    path.map(|path| path.as_os_str().as_bytes())
}

/// What is there decides: a block device is overwritten, anything else is made.
fn target(path: &Path) -> Target {
    use std::os::unix::fs::FileTypeExt;
    let is_device = std::fs::metadata(path).is_ok_and(|there| there.file_type().is_block_device());
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
        ui.line("All of it was read back, and is what was backed up.");
    }
}

#[derive(Debug, Args)]
pub(crate) struct Attach {
    /// The path under which the disk was backed up; not needed when the point holds one disk.
    disk: Option<PathBuf>,
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// The Unix socket to make; only this user can open it.
    #[arg(long, value_name = "PATH", default_value = "jetfrost-disk.socket", conflicts_with = "port")]
    socket: PathBuf,
    /// A TCP port of this machine in place of a socket: every user of this machine can read there; 0 for any free port.
    #[arg(long)]
    port: Option<u16>,
    #[command(flatten)]
    from: ReadFrom,
}

impl Attach {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.point(&self.at, PointKind::Disk)?;
        let (disk, image) = browser.disk(&point, as_bytes(self.disk.as_deref()))?;
        let listen = match self.port {
            Some(port) => Listen::Port(port),
            None => Listen::Socket(std::path::absolute(&self.socket).unwrap_or(self.socket)),
        };
        let meter = ended_by_key();
        let bytes = image.len();
        let say = |address: &str| {
            ui.show(&json!({ "address": address, "bytes": bytes }), |_| {
                let size = show(bytes);
                ui.line(&format!("{} of {}, {size}, is attached for reading at", shown_path(&disk.path), of_point(&point)));
                ui.line(&format!("  {address}"));
                ui.line("until this command is interrupted. To look at it, in another terminal:");
                ui.line(&format!("  nbdinfo '{address}'"));
                ui.line(&format!("  nbdcopy --progress '{address}' disk.raw"));
            });
        };
        let progress = attach(&browser, &point, (&disk, Arc::new(image)), &listen, &meter, say)?;
        ui.remark(&format!("No longer attached; {} were read.", show(progress.bytes_done)));
        Ok(Code::Done)
    }
}
