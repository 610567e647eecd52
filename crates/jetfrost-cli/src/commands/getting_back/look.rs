//! `jetfrost look`: a folder as it was.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde::Serialize;

use crate::commands::getting_back::absolute;
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Look {
    /// A folder, by the path that it had.
    #[arg(default_value = "/")]
    path: PathBuf,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

/// A line of a listing, as JSON.
#[derive(Debug, Serialize)]
struct Listed {
    name: String,
    kind: String,
    bytes: u64,
    modified: Option<Timestamp>,
    mode: String,
    owner: String,
    group: String,
    target: Option<String>,
}

impl Look {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let path = absolute(std::slice::from_ref(&self.path))?.remove(0);
        let entries = browser.list(&point, path_bytes(&path))?;
        let listed: Vec<Listed> = entries.iter().map(Listed::of).collect();
        ui.show(&listed, |listed| {
            let row = |l: &Listed| {
                let arrow = l.target.as_ref().map_or_else(String::new, |target| format!(" → {target}"));
                let slash = if l.kind == "directory" { "/" } else { "" };
                vec![
                    l.mode.clone(),
                    l.owner.clone(),
                    l.group.clone(),
                    if l.kind == "file" { show(l.bytes) } else { String::new() },
                    l.modified.map(moment).unwrap_or_default(),
                    format!("{}{slash}{arrow}", l.name),
                ]
            };
            let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
            ui.remark(&format!("{} as of point {} ({created})", path.display(), point.head.sequence));
            ui.table(
                &["mode", "owner", "group", "size", "modified", "name"],
                listed.iter().map(row).collect(),
                &[3],
                "This folder is empty.",
            );
        });
        Ok(Code::Done)
    }
}

impl Listed {
    fn of(entry: &jetfrost_client::browse::Entry) -> Self {
        let id_or = |name: &Option<String>, id: u32| name.clone().unwrap_or_else(|| id.to_string());
        Self {
            name: shown_path(&entry.name),
            kind: labels::entry_kind(entry.kind).to_owned(),
            bytes: entry.len(),
            modified: Timestamp::new(entry.mtime, entry.mtime_nanos.cast_signed()).ok(),
            mode: format!("{:04o}", entry.mode),
            owner: id_or(&entry.owner, entry.uid),
            group: id_or(&entry.group, entry.gid),
            target: entry.target.as_ref().map(|t| shown_path(t)),
        }
    }
}
