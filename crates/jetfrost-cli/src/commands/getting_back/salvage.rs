//! `jetfrost salvage`: what can still be read of a damaged image store.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::salvage::{Copied, Finding, Lost, Mended, PointLosses, Rebuilt, Salvage as Salvaging, Wrong};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use serde_json::{Value, json};

use crate::commands::getting_back::read_from::keys_of;
use crate::commands::interrupt::stoppable_meter;
use crate::commands::keys::secret::Which;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment, shown_path};

type Done = Result<Code, Failure>;

/// Number of paths to list for a point; JSON lists all.
const MOST_LISTED: usize = 20;

#[derive(Debug, Args)]
pub(crate) struct Salvage {
    /// Directory of the damaged image store. It is not changed.
    store: PathBuf,
    /// A new directory for the mended copy.
    #[arg(long, value_name = "COPY", required_unless_present = "preview")]
    to: Option<PathBuf>,
    /// Show what a salvage would recover; write nothing.
    #[arg(long, conflicts_with = "to")]
    preview: bool,
    /// Ask for no secret. Lost points then stay lost, and lost files are not listed by path.
    #[arg(long)]
    keyless: bool,
    #[command(flatten)]
    which: Which,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
}

impl Salvage {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let begun = Salvaging::begin(&self.store, self.to.as_deref(), &meter);
        drop(shown);
        let (salvage, found) = begun?;
        let completed = if self.keyless || found.mended.slots == 0 {
            None
        } else {
            let keys = keys_of(&salvage.store(), &self.which, state_dir, ui)?;
            Some(salvage.complete(keys)?)
        };
        let (rebuilt, losses) = completed.as_ref().map_or((None, &[][..]), |(rebuilt, losses)| (Some(rebuilt), &losses[..]));
        ui.show(&as_value(found.copied.as_ref(), &found.mended, rebuilt, losses), |_| {
            say_mended(found.copied.as_ref(), &found.mended, ui);
            if let Some(rebuilt) = rebuilt {
                say_rebuilt(rebuilt, losses, ui);
            }
            self.say_next(&found.mended, rebuilt, losses, ui);
        });
        let is_whole = losses.iter().all(|point| point.lost.is_empty()) && rebuilt.is_none_or(|r| r.unproven.is_empty());
        Ok(if is_whole { Code::Done } else { Code::Damage })
    }

    fn say_next(&self, mended: &Mended, rebuilt: Option<&Rebuilt>, losses: &[PointLosses], ui: &Ui) {
        if mended.slots == 0 {
            ui.line(
                "No unlock method is left: without a key slot nothing can be read. If an older copy of the directory 'slots' exists,",
            );
            ui.line("put it back and try again.");
            return;
        }
        if rebuilt.is_none() {
            ui.line("Next: the same without --keyless, with a secret that unlocks this image store.");
            return;
        }
        match &self.to {
            None => ui.line("Nothing was written. Next: jetfrost salvage STORE --to COPY"),
            Some(copy) => {
                ui.line("The original was not touched. Bring back what is there:");
                ui.line(&format!("  jetfrost points --store-directory {}", copy.display()));
                let has = |kind| losses.iter().any(|points| points.point.kind == kind);
                for (kind, command, target) in [(PointKind::Files, "restore", "DIR"), (PointKind::Disk, "rebuild --disk", "FILE")]
                {
                    if has(kind) {
                        ui.line(&format!("  jetfrost {command} --store-directory {} --to {target}", copy.display()));
                    }
                }
            }
        }
    }
}

fn as_value(copied: Option<&Copied>, mended: &Mended, rebuilt: Option<&Rebuilt>, losses: &[PointLosses]) -> Value {
    let lost = |l: &Lost| json!({ "path": shown_path(&l.path), "lost_bytes": l.bytes, "bytes": l.of });
    let finding = |f: &Finding| json!({ "path": f.path, "wrong": wrong(&f.wrong) });
    let loss = |l: &PointLosses| json!({ "point": l.point.sequence, "created": l.point.committed, "lost": l.lost.iter().map(lost).collect::<Vec<_>>() });
    json!({
        "copied": copied.map(|c| json!({ "files": c.files, "bytes": c.bytes, "by_links": c.by_links, "unreadable": c.unreadable })),
        "described_again": mended.described_again, "segments": mended.segments, "chunks_recovered": mended.recovered,
        "set_aside": mended.aside.iter().map(finding).collect::<Vec<_>>(), "unlock_methods": mended.slots,
        "points_made_again": rebuilt.map(|r| &r.points), "needs_made_again": rebuilt.map(|r| &r.needs),
        "unproven": rebuilt.map_or(&mended.unproven, |r| &r.unproven), "points": losses.iter().map(loss).collect::<Vec<_>>(),
    })
}

fn wrong(wrong: &Wrong) -> String {
    match wrong {
        Wrong::Damaged(why) => why.clone(),
        Wrong::Missing => "it is missing".into(),
        Wrong::Alien => "it is nothing that an image store has under this name".into(),
    }
}

fn say_mended(copied: Option<&Copied>, mended: &Mended, ui: &Ui) {
    if let Some(copied) = copied {
        let how = if copied.by_links { ", by links, which take no room" } else { "" };
        ui.line(&format!("copied    {}, {}{how}", many(copied.files, "file"), show(copied.bytes)));
        if copied.unreadable > 0 {
            ui.line(&format!("          {} of them could not be read; zeros are in their place", show(copied.unreadable)));
        }
    }
    if mended.described_again {
        ui.line("store     its description was lost and was made again");
    }
    let damaged = mended.aside.iter().filter(|f| f.path.starts_with("segments/")).count() as u64;
    ui.line(&format!("segments  {} read, {damaged} not sound, {} recovered", mended.segments, many(mended.recovered, "chunk")));
    if !mended.aside.is_empty() {
        ui.line("aside     what is damaged was moved to 'damaged':");
        for finding in mended.aside.iter().take(MOST_LISTED) {
            ui.line(&format!("          {}: {}", finding.path, wrong(&finding.wrong)));
        }
        say_more(mended.aside.len(), ui);
    }
}

fn say_more(listed: usize, ui: &Ui) {
    if listed > MOST_LISTED {
        ui.line(&format!("          … and {} more; --json has all", listed - MOST_LISTED));
    }
}

fn say_rebuilt(rebuilt: &Rebuilt, losses: &[PointLosses], ui: &Ui) {
    let numbers = |list: &[u64]| list.iter().map(u64::to_string).collect::<Vec<_>>().join(", ");
    let whole = losses.iter().filter(|point| point.lost.is_empty()).count();
    ui.line(&format!("points    {}, of which {whole} whole", losses.len()));
    if !rebuilt.points.is_empty() {
        ui.line(&format!(
            "          made again from what they needed: {}; their times are those of the latest change in them",
            numbers(&rebuilt.points)
        ));
    }
    if !rebuilt.needs.is_empty() {
        ui.line(&format!("          what they need was read from their trees: {}", numbers(&rebuilt.needs)));
    }
    if !rebuilt.unproven.is_empty() {
        ui.line(&format!("          folders are lost in: {}; what else they need is unknown", numbers(&rebuilt.unproven)));
    }
    for PointLosses { point, lost } in losses.iter().filter(|point| !point.lost.is_empty()) {
        let head =
            format!("point {} ({}, {})", point.sequence, moment(point.committed), many(point.files, labels::noun(point.kind)));
        ui.line(&format!("lost      {head}:"));
        for lost in lost.iter().take(MOST_LISTED) {
            let what =
                lost.bytes.map_or_else(|| "all that was in it".into(), |bytes| format!("{} of {}", show(bytes), show(lost.of)));
            ui.line(&format!("          {}  {what}", shown_path(&lost.path)));
        }
        say_more(lost.len(), ui);
    }
}
