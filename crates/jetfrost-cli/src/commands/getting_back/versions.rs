//! `jetfrost versions`: what something was like over time.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::versions::{Version, Versions as Found};
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::getting_back::{absolute, ranges};
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Versions {
    /// A file or folder, by the path that it had.
    path: PathBuf,
    #[command(flatten)]
    from: ReadFrom,
}

impl Versions {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let path = absolute(std::slice::from_ref(&self.path))?.remove(0);
        let found = browser.versions(path_bytes(&path))?;
        let shown = shown_path(path_bytes(&path));
        if found.versions.is_empty() && found.unreadable.is_empty() {
            return Err(Failure::here(
                format!("{shown} is in none of the recovery points."),
                "See what is there: jetfrost look. Whether a rule leaves it out: jetfrost selection why PATH",
            ));
        }
        ui.show(&as_json(&found), |_| {
            let row = |version: &Version| {
                vec![
                    changed(version),
                    if labels::entry_kind(version.entry.kind) == "file" { show(version.entry.len()) } else { String::new() },
                    ranges(version.points.iter().map(|point| point.sequence)),
                    version.points.last().map(|point| moment(point.committed)).unwrap_or_default(),
                    version.points.first().map(|point| moment(point.committed)).unwrap_or_default(),
                ]
            };
            ui.remark(&format!("{shown}: {}", many(found.versions.len() as u64, "version")));
            let heads = ["changed", "size", "in points", "first backed up", "last backed up"];
            ui.table(&heads, found.versions.iter().map(row).collect(), &[1], "");
            if !found.absent.is_empty() {
                ui.line(&format!("Not in points {}.", ranges(found.absent.iter().copied())));
            }
            if !found.unreadable.is_empty() {
                ui.line(&format!("Points {} are damaged or lost.", ranges(found.unreadable.iter().copied())));
            }
        });
        Ok(if found.unreadable.is_empty() { Code::Done } else { Code::Damage })
    }
}

fn changed(version: &Version) -> String {
    Timestamp::from_second(version.entry.mtime).map(moment).unwrap_or_default()
}

fn as_json(found: &Found) -> serde_json::Value {
    let point = |point: &jetfrost_wire::point::Point| json!({ "sequence": point.sequence, "committed": point.committed });
    let version = |version: &Version| {
        json!({
            "kind": labels::entry_kind(version.entry.kind),
            "bytes": version.entry.len(),
            "modified": Timestamp::new(version.entry.mtime, version.entry.mtime_nanos.cast_signed()).ok(),
            "points": version.points.iter().map(point).collect::<Vec<_>>(),
        })
    };
    let versions: Vec<_> = found.versions.iter().map(version).collect();
    json!({ "versions": versions, "absent": found.absent, "unreadable": found.unreadable })
}
