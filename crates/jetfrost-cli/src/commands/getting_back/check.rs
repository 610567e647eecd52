//! `jetfrost check`: a point, read back and compared.

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::check::check;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size::show;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, count, many};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Check {
    /// The point: 'latest', 'last-good', a number, or a time.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// Percentage of file content to read, drawn at random. Folders are always read.
    #[arg(long, default_value_t = 100, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=100))]
    share: u8,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Check {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.any_point(&self.at)?;
        let meter = stoppable_meter();
        let began = std::time::Instant::now();
        let shown = ui.progress(&meter, self.quiet);
        let report = check(&browser, &point, self.share, &meter);
        drop(shown);
        let report = report?;
        let damaged: Vec<String> = report.damaged.iter().map(|path| String::from_utf8_lossy(path).into_owned()).collect();
        let value = json!({
            "point": point.head.sequence, "entries": report.entries, "chunks": report.chunks, "bytes": report.bytes,
            "chunks_left_out": report.left_out, "damaged": damaged,
        });
        ui.show(&value, |_| {
            let took = began.elapsed();
            let rate = at_rate(report.bytes, took);
            let read = format!("{} in {}", show(report.bytes), many(report.chunks, "chunk"));
            ui.line(&format!("Point {}: {} read{rate}, {} names.", point.head.sequence, read, count(report.entries)));
            if report.left_out > 0 {
                ui.line(&format!("{} were left out by the share.", many(report.left_out, "chunk")));
            }
            if damaged.is_empty() {
                ui.line("Everything matches what was backed up.");
                return;
            }
            ui.line("Damaged:");
            damaged.iter().for_each(|path| ui.line(&format!("  {path}")));
            ui.line("Everything else in this point comes back. If these are still here as they were, the next backup heals it");
            ui.line("after the administrator has had the image store scrubbed.");
        });
        Ok(if damaged.is_empty() { Code::Done } else { Code::Damage })
    }
}
