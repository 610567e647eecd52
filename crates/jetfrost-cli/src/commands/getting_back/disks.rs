//! `jetfrost disks`: the disks in a point, with their partitions.

use std::path::Path;

use clap::Args;
use jetfrost_client::browse::{At, OpenPoint};
use jetfrost_client::disk::Disk;
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::getting_back::read_from::ReadFrom;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Disks {
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Disks {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
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
            format!("{}{copy}", table.in_words())
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

/// Which point, in words.
pub(crate) fn of_point(point: &OpenPoint) -> String {
    let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
    format!("point {} ({created})", point.head.sequence)
}

pub(crate) fn as_bytes(path: Option<&Path>) -> Option<&[u8]> {
    path.map(path_bytes)
}
