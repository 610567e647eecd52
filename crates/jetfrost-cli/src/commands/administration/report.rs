//! `jetfrost report`: what happened in a period, for those who have to show it.

use std::io::Write;
use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::restore::{Purpose, ReportedRestore};
use jetfrost_wire::size::show;

use crate::commands::escaped;
use crate::commands::labels;
use crate::commands::time::moment_of;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, count, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Report {
    /// Restores and drills of all workstations: who, from which point, how much, and what came of it.
    Restores {
        /// Started not before this time: 2026-11-20, or 2026-11-20T14:00.
        #[arg(long)]
        since: Option<String>,
        /// Started before this time.
        #[arg(long)]
        until: Option<String>,
        /// Only drills.
        #[arg(long)]
        drills: bool,
        /// How it is written.
        #[arg(long, value_enum, default_value = "table")]
        form: Form,
        /// A new file to write to [default: standard output].
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// As a table, for a terminal.
    Table,
    /// Comma-separated values.
    Csv,
    /// A page to print.
    Html,
}

const HEADS: [&str; 13] = [
    "started",
    "workstation",
    "account",
    "what",
    "point",
    "by",
    "from",
    "to",
    "outcome",
    "files",
    "bytes",
    "exceptions",
    "ended",
];

impl Report {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let Self::Restores { since, until, drills, form, to } = self;
        let (_, api) = state_dir.session_api()?;
        let at = |text: &Option<String>| text.as_deref().map(|text| moment_of(text).map(|at| at.to_string())).transpose();
        let (since, until) = (at(&since)?, at(&until)?);
        let purpose = drills.then(|| Purpose::Drill.word().to_owned());
        let period = title(since.as_deref(), until.as_deref());
        let query = [("since", since), ("until", until), ("purpose", purpose)];
        let found: Vec<ReportedRestore> = api.first(&calls::restore_report(), &query, usize::MAX)?;
        match form {
            Form::Table if to.is_some() => {
                return Err(Failure::here("A table is for the terminal.", "For a file, give --form csv or --form html."));
            }
            Form::Table => ui.show(&found, |found| say(found, ui)),
            Form::Csv => write_to(to.as_ref(), &csv_of(&found))?,
            Form::Html => write_to(to.as_ref(), &page_of(&found, &period))?,
        }
        Ok(Code::Done)
    }
}

fn title(since: Option<&str>, until: Option<&str>) -> String {
    match (since, until) {
        (None, None) => "Restores and drills".into(),
        (Some(since), None) => format!("Restores and drills since {since}"),
        (None, Some(until)) => format!("Restores and drills until {until}"),
        (Some(since), Some(until)) => format!("Restores and drills from {since} to {until}"),
    }
}

fn say(found: &[ReportedRestore], ui: &Ui) {
    let row = |line: &ReportedRestore| {
        let ReportedRestore { name, restore, .. } = line;
        vec![
            moment(restore.started),
            name.clone(),
            restore.target.map_or_else(
                || restore.purpose.word().to_owned(),
                |target| format!("{}, {}", restore.purpose.word(), target.word()),
            ),
            restore.point.to_string(),
            restore.by.clone(),
            labels::outcome(restore.outcome),
            count(restore.progress.files_done),
            show(restore.progress.bytes_done),
            count(restore.exceptions),
        ]
    };
    let heads = ["started", "workstation", "what", "point", "by", "outcome", "files", "size", "exceptions"];
    ui.table(&heads, found.iter().map(row).collect(), &[3, 6, 7, 8], "Nothing was restored in that time, and no drill was made.");
}

/// The cells of a line, as programs read them.
fn cells(line: &ReportedRestore) -> [String; 13] {
    let ReportedRestore { name, login, restore } = line;
    [
        restore.started.to_string(),
        name.clone(),
        login.clone(),
        restore.purpose.word().into(),
        restore.point.to_string(),
        restore.by.clone(),
        restore.origin.clone().unwrap_or_default(),
        restore.target.map(|target| target.word().to_owned()).unwrap_or_default(),
        restore.outcome.word().into(),
        restore.progress.files_done.to_string(),
        restore.progress.bytes_done.to_string(),
        restore.exceptions.to_string(),
        restore.ended.map(|ended| ended.to_string()).unwrap_or_default(),
    ]
}

/// Comma-separated values (RFC 4180). A cell that a spreadsheet would take for a formula gets an apostrophe in front.
fn csv_of(found: &[ReportedRestore]) -> String {
    let cell = |text: &str| {
        let guard = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { "'" } else { "" };
        format!("\"{guard}{}\"", text.replace('"', "\"\""))
    };
    let line = |cells: &[&str]| cells.iter().map(|text| cell(text)).collect::<Vec<_>>().join(",") + "\r\n";
    let lines = found.iter().map(|found| line(&cells(found).each_ref().map(String::as_str)));
    line(&HEADS) + &lines.collect::<String>()
}

/// A page that prints well and needs nothing else.
fn page_of(found: &[ReportedRestore], title: &str) -> String {
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>{title}</title>\n\
         <style>body{{font:10pt sans-serif;margin:2em}}table{{border-collapse:collapse;width:100%}}\
         th,td{{border-bottom:1px solid #999;padding:.2em .4em;text-align:left}}thead{{display:table-header-group}}</style>\n\
         <h1>{title}</h1>\n<p>{} in all.</p>\n<table>\n<thead><tr>",
        count(found.len() as u64)
    );
    page.extend(HEADS.iter().map(|head| format!("<th scope=\"col\">{head}</th>")));
    page.push_str("</tr></thead>\n<tbody>\n");
    for line in found {
        page.push_str("<tr>");
        page.extend(cells(line).iter().map(|cell| format!("<td>{}</td>", escaped(cell))));
        page.push_str("</tr>\n");
    }
    page + "</tbody>\n</table>\n</html>\n"
}

fn write_to(to: Option<&PathBuf>, text: &str) -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::here(format!("The file cannot be written: {e}."), "Choose another file.");
    let mut out: Box<dyn Write> = match to {
        Some(path) => Box::new(std::fs::File::create_new(path).map_err(failed)?),
        None => Box::new(std::io::stdout()),
    };
    out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(failed)
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{RestoreId, WorkstationId};
    use jetfrost_wire::restore::{Restore, Scope};
    use jetfrost_wire::run::{Outcome, Progress};
    use jiff::Timestamp;

    use super::*;

    fn of(name: &str) -> ReportedRestore {
        let restore = Restore {
            id: RestoreId("r".into()),
            workstation: WorkstationId("w".into()),
            point: 7,
            scope: Scope::Selection,
            purpose: Purpose::Drill,
            by: "ingrid, \"the admin\"".into(),
            origin: Some("192.0.2.9".into()),
            target: None,
            cancelled_by: None,
            checklist: None,
            outcome: Outcome::Complete,
            progress: Progress { files_done: 3, bytes_done: 90, ..Progress::default() },
            exceptions: 0,
            started: Timestamp::UNIX_EPOCH,
            ended: None,
            reason: None,
        };
        ReportedRestore { name: name.into(), login: "tove".into(), restore }
    }

    #[test]
    fn a_line_of_csv_quotes_every_cell_and_starts_no_formula() {
        let csv = csv_of(&[of("=HYPERLINK(1)")]);
        let line = csv.lines().nth(1).expect("a line");
        assert!(line.starts_with("\"1970-01-01T00:00:00Z\",\"'=HYPERLINK(1)\",\"tove\",\"drill\",\"7\""), "{line}");
        assert!(line.contains("\"ingrid, \"\"the admin\"\"\""), "{line}");
        assert_eq!(csv.lines().next().expect("heads").split(',').count(), HEADS.len());
    }

    #[test]
    fn a_name_is_no_markup_in_a_page() {
        let page = page_of(&[of("<script>alert(1)</script>")], &title(None, None));
        assert!(page.contains("&lt;script&gt;alert(1)&lt;/script&gt;") && !page.contains("<script>"), "{page}");
    }
}
