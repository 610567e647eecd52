//! `jetfrost history`: runs and restores, and runs that were due and did not happen.

use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::restore::{CheckState, Purpose, Restore as RestoreRecord};
use jetfrost_wire::run::Run;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::Wait;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, count, many, moment, took};

type Done = Result<Code, Failure>;

pub(crate) fn history(state_dir: &StateDir, ui: &Ui) -> Done {
    let (membership, api) = state_dir.device_api()?;
    let runs: Vec<Run> = api.all(&calls::runs(&membership.workstation))?;
    let restores: Vec<RestoreRecord> = api.all(&calls::restores(&membership.workstation))?;
    let waits: Vec<Wait> = api.all(&calls::waits(&membership.workstation))?;
    let value = json!({ "runs": runs, "restores": restores, "waits": waits });
    ui.show(&value, |_| say_history(&runs, &restores, &waits, ui));
    Ok(Code::Done)
}

pub(crate) fn say_history(runs: &[Run], restores: &[RestoreRecord], waits: &[Wait], ui: &Ui) {
    let lasted = |started: Timestamp, ended: Option<Timestamp>| {
        ended.map_or_else(|| "–".into(), |ended| took(ended.duration_since(started).unsigned_abs()))
    };
    let mut lines: Vec<(Timestamp, Vec<String>)> = Vec::new();
    for run in runs {
        let what = run.point.map_or_else(|| "run".into(), |point| format!("run, point {point}"));
        let p = &run.progress;
        let note = run.reason.clone().unwrap_or_default();
        let cells = vec![
            what,
            labels::outcome(run.outcome),
            count(p.files_done),
            show(p.bytes_done),
            show(p.sent),
            lasted(run.started, run.ended),
            note,
        ];
        lines.push((run.started, cells));
    }
    for restore in restores {
        let p = &restore.progress;
        let what = match restore.purpose {
            Purpose::Restore => format!("restore from {}", restore.point),
            Purpose::Drill => format!("drill of {}", restore.point),
            Purpose::Attach => format!("disk of {} attached", restore.point),
            Purpose::Mount => format!("{} mounted", restore.point),
            Purpose::Export => format!("export of {}", restore.point),
            Purpose::Browse => format!("{} browsed", restore.point),
        };
        let cancelled = restore.cancelled_by.as_ref().map(|who| format!("cancelled by {who}"));
        let note = cancelled.or_else(|| restore.reason.clone()).unwrap_or_else(|| format!("by {}", restore.by));
        let checked = restore.checklist.as_ref().map(|list| {
            match list.items.iter().filter(|item| item.state == CheckState::Wrong).count() {
                0 => "; checked off, nothing wrong".to_owned(),
                wrong => format!("; checked off, {} wrong", many(wrong as u64, "item")),
            }
        });
        let note = note + &checked.unwrap_or_default();
        let cells = vec![
            what,
            labels::outcome(restore.outcome),
            count(p.files_done),
            show(p.bytes_done),
            show(p.sent),
            lasted(restore.started, restore.ended),
            note,
        ];
        lines.push((restore.started, cells));
    }
    for wait in waits {
        let none = || "–".to_owned();
        let lasted = lasted(wait.since, Some(wait.until));
        let cells = vec!["run".into(), "skipped".into(), none(), none(), none(), lasted, labels::delay(wait.reason).into()];
        lines.push((wait.since, cells));
    }
    lines.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    let rows = lines.into_iter().map(|(at, cells)| [vec![moment(at)], cells].concat()).collect();
    let heads = ["began", "what", "outcome", "files", "size", "moved", "took", ""];
    ui.table(&heads, rows, &[3, 4, 5, 6], "Nothing has happened yet. Next: jetfrost backup");
}
