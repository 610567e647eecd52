//! What a diagnosis found, in the same words as the refusal of a call.

use super::super::Trouble;
use jetfrost_wire::diagnosis::{Diagnosis, DiagnosisLine, StepResult};
use jetfrost_wire::problem::WhoseMove;

use crate::backups::Looked;

pub(super) fn diagnosis(looked: Looked) -> Diagnosis {
    let passed = |(step, says)| DiagnosisLine { step, result: StepResult::Passed, says, next: None, whose_move: None, ms: 0 };
    let mut steps: Vec<DiagnosisLine> = looked.well.into_iter().map(passed).collect();
    let well = looked.not.is_none();
    steps.extend(looked.not.map(|(step, error)| {
        let problem = Trouble::from(error).into_problem();
        let whose_move = if problem.whose_move == WhoseMove::Caller { WhoseMove::Administrator } else { problem.whose_move };
        let (next, whose_move) = (Some(problem.next_step), Some(whose_move));
        DiagnosisLine { step, result: StepResult::Failed, says: problem.title, next, whose_move, ms: 0 }
    }));
    Diagnosis { well, steps, room: looked.room }
}
