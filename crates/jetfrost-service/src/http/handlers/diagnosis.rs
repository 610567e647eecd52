//! What a diagnosis found, in the same words as the refusal of a call.

use super::super::Trouble;
use jetfrost_wire::diagnosis::{Diagnosis, DiagnosisLine};
use jetfrost_wire::problem::WhoseMove;

use crate::backups::Looked;

pub(super) fn diagnosis(looked: Looked) -> Diagnosis {
    let well = |(step, says)| DiagnosisLine { step, well: true, says, next: None, whose_move: None };
    let mut steps: Vec<DiagnosisLine> = looked.well.into_iter().map(well).collect();
    let all_well = looked.not.is_none();
    steps.extend(looked.not.map(|(step, error)| {
        let problem = Trouble::from(error).into_problem();
        let whose_move = if problem.whose_move == WhoseMove::Caller { WhoseMove::Administrator } else { problem.whose_move };
        DiagnosisLine { step, well: false, says: problem.title, next: Some(problem.next_step), whose_move: Some(whose_move) }
    }));
    Diagnosis { well: all_well, steps }
}
