//! `jetfrost export` and `jetfrost cat`: files as they were, as a stream.

use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, IsTerminal};
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use jetfrost_client::ClientError;
use jetfrost_client::browse::At;
use jetfrost_client::export::{ExportReport, Form, export, print};
use jetfrost_client::restore::Trouble;
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::{Opening, path_bytes, reason};
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::getting_back::{absolute, troubles_as_json};
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, many, shown_path, took};

type Done = Result<Code, Failure>;

/// Bytes that are written at once.
const BUFFER: usize = 1 << 18;

#[derive(Debug, Args)]
pub(crate) struct Export {
    /// Files or folders, by the paths that they had; everything unless given.
    paths: Vec<PathBuf>,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// The archive's form. tar (pax) holds everything that a point has of a file; zip opens everywhere.
    #[arg(long, value_enum, default_value_t = Archive::Tar)]
    form: Archive,
    /// File to write, which must not be there yet; standard output unless given.
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Archive {
    Tar,
    Zip,
}

#[derive(Debug, Args)]
pub(crate) struct Cat {
    /// A file, by the path that it had.
    path: PathBuf,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Export {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let form = match self.form {
            Archive::Tar => Form::Tar,
            Archive::Zip => Form::Zip,
        };
        if self.to.is_none() && io::stdout().is_terminal() {
            return Err(Failure::here(
                "An archive is nothing to show on a terminal.",
                "Write it to a file with --to FILE, or send it on to another program.",
            ));
        }
        if self.to.is_none() && ui.is_json() {
            return Err(Failure::here(
                "Standard output cannot hold both the archive and a report.",
                "Give --to FILE with --json.",
            ));
        }
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let (paths, meter) = (absolute(&self.paths)?, stoppable_meter());
        let made = {
            let _shown = ui.progress(&meter, self.quiet);
            match &self.to {
                Some(path) => {
                    let mut file = Unfinished::create(path)?;
                    export(&browser, &point, &paths, form, &mut file.out, &meter).inspect(|_| file.is_done = true)
                }
                None => export(&browser, &point, &paths, form, &mut BufWriter::with_capacity(BUFFER, io::stdout()), &meter),
            }
        };
        let report = match made {
            Err(error) if is_cut_off(&error) => return Ok(Code::Interrupted),
            other => other?,
        };
        if let Some(path) = &self.to {
            say(&report, path, ui);
        } else {
            warn(&report, ui);
        }
        Ok(code(&report))
    }
}

impl Cat {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let path = absolute(std::slice::from_ref(&self.path))?.remove(0);
        let mut out = BufWriter::with_capacity(BUFFER, io::stdout());
        match print(&browser, &point, &path, &mut out, &stoppable_meter()) {
            // Whoever reads has seen enough.
            Err(error) if is_cut_off(&error) => Ok(Code::Done),
            other => {
                warn(&other?, ui);
                Ok(Code::Done)
            }
        }
    }
}

/// A file that goes again unless it was written to its end.
struct Unfinished<'p> {
    path: &'p Path,
    out: BufWriter<File>,
    is_done: bool,
}

impl<'p> Unfinished<'p> {
    fn create(path: &'p Path) -> Result<Self, Failure> {
        let file = OpenOptions::new().write(true).create_new(true).private().open(path);
        let file = file.map_err(|error| {
            let what = format!("{} cannot be made: {}.", path.display(), reason(&error));
            Failure::here(what, "Give a name that is not there yet, in a directory that you may write to.")
        })?;
        Ok(Self { path, out: BufWriter::with_capacity(BUFFER, file), is_done: false })
    }
}

impl Drop for Unfinished<'_> {
    fn drop(&mut self) {
        if !self.is_done {
            // Half an archive is nothing that anybody should rely on.
            let _ = std::fs::remove_file(self.path);
        }
    }
}

/// Whether nobody reads what is written any more.
fn is_cut_off(error: &ClientError) -> bool {
    matches!(error, ClientError::File { source, .. } if source.kind() == io::ErrorKind::BrokenPipe)
}

fn code(report: &ExportReport) -> Code {
    if report.troubles.iter().any(|trouble| trouble.trouble == Trouble::Damaged) {
        Code::Damage
    } else if report.troubles.is_empty() {
        Code::Done
    } else {
        Code::WithExceptions
    }
}

fn say(report: &ExportReport, path: &Path, ui: &Ui) {
    let troubles = troubles_as_json(&report.troubles);
    let value = json!({
        "progress": report.progress, "troubles": troubles, "seconds": report.took.as_secs_f64(),
        "on_record": report.not_on_record.is_none(),
    });
    ui.show(&value, |_| {
        let (progress, time) = (&report.progress, took(report.took));
        let (files, bytes) = (many(progress.files_done, "file"), show(progress.bytes_done));
        let rate = at_rate(progress.bytes_done, report.took);
        ui.line(&format!("{files}, {bytes}, in {time}{rate}, in {}.", path.display()));
    });
    warn(report, ui);
}

/// What is not as it was, beside the archive.
fn warn(report: &ExportReport, ui: &Ui) {
    if let Some(why) = &report.not_on_record {
        ui.remark(&format!("The service could not put this on record: {why}. Tell the administrator."));
    }
    if !report.troubles.is_empty() {
        ui.remark(&format!("{} not exactly as it was:", many(report.troubles.len() as u64, "item")));
    }
    for trouble in &report.troubles {
        ui.remark(&format!("  {}  {}", shown_path(path_bytes(&trouble.path)), trouble.explanation));
    }
}
