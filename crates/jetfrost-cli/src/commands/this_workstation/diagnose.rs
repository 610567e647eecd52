//! `jetfrost diagnose`: why a backup would fail.

use jetfrost_client::ClientError;
use jetfrost_client::diagnosis::{Finding, Findings, Found, Sent, diagnose as find_out, send_or_keep};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::diagnosis::{Diagnosis, DiagnosisLine, StepResult};
use jetfrost_wire::problem::WhoseMove;
use serde_json::json;

use crate::commands::diagnosis::{code_of, say_line};
use crate::failure::{Code, Failure, Words};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

/// Finds out why a backup would fail or be late: tries everything that it needs, in order. Leaves nothing behind.
pub(crate) fn diagnose(state_dir: &StateDir, ui: &Ui) -> Done {
    let mut said = |finding: &Finding| {
        if !ui.is_json() {
            say_line(&line(finding, shown), ui);
            finding.details.iter().for_each(|detail| ui.line(&format!("        {detail}")));
        }
    };
    let findings = find_out(state_dir, &mut said);
    let sent = send_or_keep(state_dir, &as_told(&findings))?;
    let here = in_words(&findings, shown);
    if ui.is_json() {
        let details: Vec<&String> = findings.steps.iter().flat_map(|finding| &finding.details).collect();
        ui.show(&json!({ "diagnosis": here, "details": details, "service_was_told": sent == Sent::Told }), |_| {});
    } else {
        ui.line("");
        ui.line(match (here.well, code_of(&here)) {
            (true, Code::Done) => "Nothing is in the way of a backup.",
            (true, _) => "Nothing is in the way of a backup; look at what is marked.",
            (false, _) => "The step that failed explains the rest; what follows it was not tried.",
        });
        match sent {
            Sent::Told => ui.line("The administrator sees this on the workstation's page."),
            Sent::Kept => ui.line("The service is told once the agent reaches it."),
            Sent::ToNobody => {}
        }
    }
    Ok(code_of(&here))
}

/// Findings as the service is told them: nothing of this machine's names is in them.
pub(crate) fn as_told(findings: &Findings) -> Diagnosis {
    in_words(findings, without_names)
}

fn in_words(findings: &Findings, words: fn(&ClientError) -> Words) -> Diagnosis {
    let steps = findings.steps.iter().map(|finding| line(finding, words)).collect();
    Diagnosis { well: findings.are_well(), steps, room: findings.room }
}

/// A finding as the service and other programs know it.
fn line(finding: &Finding, words: fn(&ClientError) -> Words) -> DiagnosisLine {
    let (result, says, next, whose_move) = match &finding.found {
        Found::Passed(says) => (StepResult::Passed, says.clone(), None, None),
        Found::Noticed(advice) => (StepResult::Noticed, advice.says.clone(), Some(advice.next.clone()), Some(advice.whose_move)),
        Found::InTheWay(advice) => (StepResult::Failed, advice.says.clone(), Some(advice.next.clone()), Some(advice.whose_move)),
        Found::Failed(error) => {
            let Words { what, detail, next } = words(error);
            let says = detail.map_or_else(|| what.clone(), |detail| format!("{what} {detail}"));
            (StepResult::Failed, says, Some(next), Some(whose_move(error)))
        }
    };
    let ms = u64::try_from(finding.took.as_millis()).unwrap_or(u64::MAX);
    DiagnosisLine { step: finding.step, result, says, next, whose_move, ms }
}

fn shown(error: &ClientError) -> Words {
    Words::of(error)
}

/// The same words, with nothing in them that the service must not know.
fn without_names(error: &ClientError) -> Words {
    let what = error.without_names().into_text();
    Words { what, detail: None, next: Words::of(error).next }
}

fn whose_move(error: &ClientError) -> WhoseMove {
    match error {
        ClientError::Refused(problem) if problem.whose_move != WhoseMove::Caller => problem.whose_move,
        ClientError::Refused(_) | ClientError::OtherCertificate { .. } | ClientError::RolledBack { .. } => {
            WhoseMove::Administrator
        }
        _ => WhoseMove::Workstation,
    }
}
