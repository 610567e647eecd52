//! `jetfrost compare`: what changed between two points.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::browse::{At, Browser, OpenPoint};
use jetfrost_client::compare::{Change, Comparison, Difference, compare, text_of};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::path_bytes;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;
use similar::TextDiff;

use crate::commands::getting_back::absolute;
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::stoppable_meter;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Compare {
    /// The earlier point: a number, or a time such as 2026-11-20T14:00.
    #[arg(value_name = "POINT")]
    before: At,
    /// The later point: 'latest', 'last-good', a number, or a time.
    #[arg(value_name = "POINT")]
    after: At,
    /// A file or folder, by the path that it had. Of a text file up to 1 MiB the lines are compared.
    #[arg(default_value = "/")]
    path: PathBuf,
    #[command(flatten)]
    from: ReadFrom,
}

impl Compare {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let points = [&self.before, &self.after].map(|at| browser.point(at, PointKind::Files));
        let [before, after] = points;
        let (before, after) = (before?, after?);
        let path = absolute(std::slice::from_ref(&self.path))?.remove(0);
        let path = path_bytes(&path);
        let found = compare(&browser, &before, &after, path, &stoppable_meter())?;
        let lines = changed_lines(&browser, &before, &after, path, &found)?;
        ui.show(&as_json(&found, lines.as_deref()), |_| {
            ui.remark(&format!("{}, from {} to {}", shown_path(path), named(&before), named(&after)));
            ui.table(&["", "size", "path"], found.differences.iter().map(row).collect(), &[1], "Nothing differs.");
            for folder in &found.unreadable {
                ui.line(&format!(
                    "{}: its listing is damaged in one of the points; what differs in it cannot be told.",
                    shown_path(folder)
                ));
            }
            if let Some(lines) = &lines {
                lines.lines().for_each(|line| ui.line(line));
            }
            if !found.differences.is_empty() {
                ui.line(&sum(&found));
            }
        });
        Ok(if found.unreadable.is_empty() { Code::Done } else { Code::Damage })
    }
}

fn named(point: &OpenPoint) -> String {
    let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
    format!("point {} ({created})", point.head.sequence)
}

/// Of one text file, the lines that differ, as a unified diff.
fn changed_lines(
    browser: &Browser,
    before: &OpenPoint,
    after: &OpenPoint,
    path: &[u8],
    found: &Comparison,
) -> Result<Option<String>, Failure> {
    if !matches!(&found.differences[..], [one] if one.path == path && one.change == Change::Changed) {
        return Ok(None);
    }
    let (Some(old), Some(new)) = (text_of(browser, before, path)?, text_of(browser, after, path)?) else { return Ok(None) };
    let diff = TextDiff::from_lines(&old, &new);
    Ok(Some(diff.unified_diff().header(&named(before), &named(after)).to_string()))
}

fn row(difference: &Difference) -> Vec<String> {
    let slash = if labels::entry_kind(difference.kind) == "directory" { "/" } else { "" };
    let path = format!("{}{slash}", shown_path(&difference.path));
    let path = match &difference.change {
        Change::Renamed(from) => format!("{}{slash} → {path}", shown_path(from)),
        _ => path,
    };
    vec![word(&difference.change).to_owned(), size(difference), path]
}

fn size(difference: &Difference) -> String {
    let bytes = match difference.change {
        Change::Added | Change::Renamed(_) | Change::Attributes => show(difference.after),
        Change::Removed => show(difference.before),
        Change::Changed => format!("{} → {}", show(difference.before), show(difference.after)),
    };
    match (labels::entry_kind(difference.kind), &difference.change) {
        ("file", _) => bytes,
        ("directory", Change::Added | Change::Removed | Change::Renamed(_)) => {
            format!("{}, {bytes}", many(difference.files, "file"))
        }
        _ => String::new(),
    }
}

fn word(change: &Change) -> &'static str {
    match change {
        Change::Added => "added",
        Change::Removed => "removed",
        Change::Changed => "changed",
        Change::Attributes => "attributes",
        Change::Renamed(_) => "renamed",
    }
}

/// How many there are of each, and by how much the whole grew.
fn sum(found: &Comparison) -> String {
    let files = |wanted: &str| {
        let of = found.differences.iter().filter(|difference| word(&difference.change) == wanted);
        of.map(|difference| difference.files).sum::<u64>()
    };
    let counted = ["added", "changed", "renamed", "removed"].map(|wanted| (wanted, files(wanted)));
    let counted: Vec<String> = counted
        .iter()
        .filter(|(_, number)| *number > 0)
        .map(|(wanted, number)| format!("{} {wanted}", many(*number, "file")))
        .collect();
    let counted = if counted.is_empty() { "No file's content changed".to_owned() } else { counted.join(", ") };
    let all = |bytes: fn(&Difference) -> u64| found.differences.iter().map(bytes).sum::<u64>();
    let (before, after) = (all(|difference| difference.before), all(|difference| difference.after));
    let grown = if after >= before { format!("{} more", show(after - before)) } else { format!("{} less", show(before - after)) };
    format!("{counted}; {grown}.")
}

fn as_json(found: &Comparison, lines: Option<&str>) -> serde_json::Value {
    let difference = |difference: &Difference| {
        let from = match &difference.change {
            Change::Renamed(from) => Some(shown_path(from)),
            _ => None,
        };
        json!({
            "path": shown_path(&difference.path), "change": word(&difference.change), "from": from,
            "kind": labels::entry_kind(difference.kind), "files": difference.files,
            "bytes_before": difference.before, "bytes_after": difference.after,
        })
    };
    let differences: Vec<_> = found.differences.iter().map(difference).collect();
    let unreadable: Vec<_> = found.unreadable.iter().map(|folder| shown_path(folder)).collect();
    json!({ "differences": differences, "unreadable": unreadable, "lines": lines })
}
