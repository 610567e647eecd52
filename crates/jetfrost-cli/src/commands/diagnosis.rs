//! A diagnosis as people read it, from the server or from a workstation.

use jetfrost_wire::diagnosis::{Diagnosis, DiagnosisLine, StepResult};
use jetfrost_wire::problem::WhoseMove;

use crate::failure::Code;
use crate::ui::Ui;

/// A diagnosis, and the code that it ends with.
pub(crate) fn say_diagnosis(diagnosis: &Diagnosis, ui: &Ui) -> Code {
    ui.show(diagnosis, |diagnosis| diagnosis.steps.iter().for_each(|line| say_line(line, ui)));
    code_of(diagnosis)
}

/// The code that a diagnosis ends with.
pub(crate) fn code_of(diagnosis: &Diagnosis) -> Code {
    if !diagnosis.well {
        Code::Failed
    } else if diagnosis.steps.iter().any(|line| line.result == StepResult::Noticed) {
        Code::WithExceptions
    } else {
        Code::Done
    }
}

/// A step, and what to do about it.
pub(crate) fn say_line(line: &DiagnosisLine, ui: &Ui) {
    let result = match line.result {
        StepResult::Passed => "ok    ",
        StepResult::Noticed => "LOOK  ",
        StepResult::Failed => "FAILED",
    };
    ui.line(&format!("{result}  {}", line.says));
    if let Some(next) = &line.next {
        let whose = match line.whose_move {
            Some(WhoseMove::Administrator) => "Next, for the administrator",
            Some(WhoseMove::Workstation | WhoseMove::Caller | WhoseMove::Service) | None => "Next",
        };
        ui.line(&format!("        {whose}: {next}"));
    }
}
