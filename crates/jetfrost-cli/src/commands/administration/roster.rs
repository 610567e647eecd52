//! `jetfrost roster`: people and machines from a CSV file.

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::roster::{Roster as RosterText, RosterAct, RosterDone, RosterFault, RosterPlan, RosterStep};

use crate::commands::administration::enrolment::say_all_issued;
use crate::commands::administration::hand_out::{Sheet, hand_out_to};
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

type Done = Result<Code, Failure>;

/// A roster is not longer.
const MOST_ROSTER: u64 = 4 << 20;

#[derive(Debug, Subcommand)]
pub(crate) enum Roster {
    /// Prints the header of a roster as CSV, to be filled in.
    Template {
        /// Fill in the office as it is now: add lines and import it again.
        #[arg(long)]
        filled: bool,
    },
    /// Shows what a roster would change, asks, and imports it. An import is all or nothing and can be repeated.
    Import {
        /// The roster; - for standard input.
        file: PathBuf,
        /// Show what would change; change nothing.
        #[arg(long, conflicts_with_all = ["yes", "hand_outs"])]
        preview: bool,
        /// Does not ask.
        #[arg(long)]
        yes: bool,
        /// Hours until the enrolment codes end, 1 to 720.
        #[arg(long, default_value_t = 336)]
        hours: u16,
        /// Write hand-outs for all new machines to a new file, a page each: PDF if its name ends so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_outs: Option<PathBuf>,
    },
}

impl Roster {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::Template { filled } => {
                let query = [("filled", filled.then(|| "true".to_owned()))];
                api.download(&calls::roster(), &query, &mut std::io::stdout())?;
                Ok(Code::Done)
            }
            Self::Import { file, preview, yes, hours, hand_outs } => {
                let roster = RosterText { table: read(&file)?, hours: Some(hours) };
                let plan: RosterPlan = api.call_with(&calls::plan_roster(), &roster)?;
                if preview || !plan.faults.is_empty() {
                    ui.show(&plan, |plan| say_plan(plan, ui));
                    return if plan.faults.is_empty() { Ok(Code::Done) } else { Err(faulty(&plan)) };
                }
                if !yes && !plan.steps.is_empty() {
                    say_plan(&plan, ui);
                    if !ui.agrees("Do all of this?") {
                        return Err(Failure::here("Nothing was changed.", "Answer with y, or add --yes."));
                    }
                }
                let sheet = hand_outs.map(Sheet::reserve).transpose()?;
                let done: RosterDone = api.call_with(&calls::apply_roster(), &roster)?;
                let shown = sheet.is_some();
                ui.show(&done, |done| say_done(done, yes, shown, ui));
                hand_out_to(sheet, &api, &done.codes, ui)?;
                Ok(Code::Done)
            }
        }
    }
}

fn read(path: &Path) -> Result<String, Failure> {
    let said =
        |e: std::io::Error| Failure::here(format!("{} cannot be read: {e}.", path.display()), "Give a roster as CSV in UTF-8.");
    let mut bytes = Vec::new();
    let read = |from: &mut dyn Read, bytes: &mut Vec<u8>| from.take(MOST_ROSTER + 1).read_to_end(bytes);
    if path.as_os_str() == "-" {
        read(&mut std::io::stdin(), &mut bytes).map_err(said)?;
    } else {
        read(&mut fs::File::open(path).map_err(said)?, &mut bytes).map_err(said)?;
    }
    if bytes.len() as u64 > MOST_ROSTER {
        return Err(Failure::here(format!("{} is too long for a roster.", path.display()), "Make two of it."));
    }
    String::from_utf8(bytes).map_err(|e| {
        let line = e.as_bytes()[..e.utf8_error().valid_up_to()].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::here(format!("{}, line {line}, is not UTF-8.", path.display()), "Save it as CSV in UTF-8.")
    })
}

fn say_plan(plan: &RosterPlan, ui: &Ui) {
    if plan.faults.is_empty() {
        say_steps(&plan.steps, ui);
    }
    for fault in &plan.faults {
        ui.line(&format!("{}: {}", at(fault), fault.what));
    }
    let lines = format!("{} read, {} ask for nothing new.", many(plan.lines, "line"), plan.unchanged);
    ui.line(&lines);
}

fn at(fault: &RosterFault) -> String {
    match (&fault.column, fault.cell) {
        (Some(column), Some(cell)) => format!("line {}, cell {cell} ({column})", fault.line),
        _ => format!("line {}", fault.line),
    }
}

fn say_steps(steps: &[RosterStep], ui: &Ui) {
    if steps.is_empty() {
        return;
    }
    let row = |step: &RosterStep| {
        let act = match step.act {
            RosterAct::New => "new",
            RosterAct::Change => "change",
        };
        vec![step.line.to_string(), act.into(), step.about.clone(), step.name.clone(), step.says.clone()]
    };
    ui.table(&["line", "", "what", "name", "how"], steps.iter().map(row).collect(), &[0], "");
}

fn faulty(plan: &RosterPlan) -> Failure {
    let what = format!("The roster has {}; nothing was changed.", many(plan.faults.len() as u64, "fault"));
    Failure::here(what, "Correct them and import it again.")
}

fn say_done(done: &RosterDone, steps_too: bool, on_sheet: bool, ui: &Ui) {
    if done.steps.is_empty() {
        return ui.line(&format!("Nothing to do: all {} are so already.", many(done.unchanged, "line")));
    }
    if steps_too {
        say_steps(&done.steps, ui);
    }
    ui.line(&format!("{} done.", many(done.steps.len() as u64, "change")));
    if !done.codes.is_empty() && !on_sheet {
        ui.line("");
        say_all_issued(&done.codes, ui);
        ui.line("The codes are not shown again. For hand-outs:  jetfrost enrolment renew --all-unused --hand-outs FILE");
    }
}
