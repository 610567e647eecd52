//! `jetfrost search`: finding something whose path nobody knows.

use clap::Args;
use jetfrost_client::ClientError;
use jetfrost_client::catalogue::{Catalogue, Found, Pattern};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size::show;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::getting_back::ranges;
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::stoppable_meter;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, as_argument, count, many, moment, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Search {
    /// A part of the name; or a pattern with '*' or '?' for the whole name; or either behind folders, such as 'letters/*.odt'. Upper
    /// and lower case are the same.
    #[arg(value_name = "NAME-OR-PATTERN")]
    pattern: String,
    /// Only what the latest point does not have.
    #[arg(long)]
    gone: bool,
    /// List no more than this many paths.
    #[arg(long, value_name = "NUMBER", default_value_t = 100)]
    most: usize,
    /// Show no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Search {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let pattern: Pattern = self.pattern.parse().map_err(|error| refused(&error))?;
        let browser = self.from.browser(state_dir, ui)?;
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let catalogue = Catalogue::up_to_date(&browser, state_dir, &meter);
        drop(shown);
        let catalogue = catalogue?;
        let mut found = catalogue.search(&pattern)?;
        if self.gone {
            let latest = catalogue.points().first().map_or(0, |point| point.sequence);
            found.retain(|found| found.latest() < latest);
        }
        let is_whole = catalogue.unreadable().is_empty() && catalogue.partly_unreadable().is_empty();
        ui.show(&as_json(&catalogue, &found, self.most), |_| self.say(&catalogue, &found, ui));
        Ok(if is_whole { Code::Done } else { Code::Damage })
    }

    fn say(&self, catalogue: &Catalogue, found: &[Found], ui: &Ui) {
        let searched = many(catalogue.points().len() as u64, "point");
        let empty = match self.gone {
            true => format!("No match in {searched} is missing from the latest."),
            false => format!("No match in {searched}."),
        };
        let rows = found.iter().take(self.most).map(row).collect();
        ui.table(&["path", "size", "modified", "in points", "versions"], rows, &[1, 4], &empty);
        if found.len() > self.most {
            let (all, most) = (count(found.len() as u64), self.most);
            ui.line(&format!("The first {most} of {all} paths. For more: --most {all}"));
        }
        for (points, what) in [
            (catalogue.unreadable().to_vec(), "Not searched, because damaged or lost"),
            (catalogue.partly_unreadable().into_iter().rev().collect(), "Searched in part, because folders are damaged"),
        ] {
            if !points.is_empty() {
                ui.line(&format!("{what}: point {}.", ranges(points.into_iter())));
            }
        }
        if let Some(found) = found.first()
            && let Some(path) = as_argument(&found.path)
        {
            ui.remark(&format!("Next: jetfrost restore --at {} {path}", found.latest()));
        }
    }
}

fn refused(error: &ClientError) -> Failure {
    Failure::here(format!("{error}."), "See how patterns are written: jetfrost help search")
}

fn row(found: &Found) -> Vec<String> {
    let Some(latest) = found.versions.first() else { return Vec::new() };
    let kind = labels::entry_kind(latest.kind);
    vec![
        format!("{}{}", shown_path(&found.path), if kind == "directory" { "/" } else { "" }),
        if kind == "file" { show(latest.len) } else { String::new() },
        Timestamp::from_second(latest.modified).map(moment).unwrap_or_default(),
        ranges(found.versions.iter().flat_map(|version| version.points.iter().copied())),
        found.versions.len().to_string(),
    ]
}

fn as_json(catalogue: &Catalogue, found: &[Found], most: usize) -> serde_json::Value {
    let version = |version: &jetfrost_client::catalogue::FoundVersion| {
        json!({
            "kind": labels::entry_kind(version.kind),
            "bytes": version.len,
            "modified": Timestamp::from_second(version.modified).ok(),
            "points": version.points,
        })
    };
    let path = |found: &Found| {
        json!({
            "path": String::from_utf8_lossy(&found.path),
            "versions": found.versions.iter().map(version).collect::<Vec<_>>(),
        })
    };
    let size = catalogue.size();
    json!({
        "found": found.len(),
        "paths": found.iter().take(most).map(path).collect::<Vec<_>>(),
        "unreadable": catalogue.unreadable(),
        "partly_unreadable": catalogue.partly_unreadable(),
        "catalogue": { "points": size.points, "names": size.names, "bytes": size.bytes },
    })
}
