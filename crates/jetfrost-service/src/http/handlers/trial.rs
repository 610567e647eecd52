//! What a trial found, in the words that the same refusal has everywhere.

use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::trial::{Trial, TrialLine};

use super::super::Trouble;
use crate::backups::Looked;

pub(super) fn trial(looked: Looked) -> Trial {
    let well = |(step, says)| TrialLine { step, well: true, says, next: None, whose_move: None };
    let mut steps: Vec<TrialLine> = looked.well.into_iter().map(well).collect();
    let all_well = looked.not.is_none();
    steps.extend(looked.not.map(|(step, error)| {
        let problem = Trouble::from(error).into_problem();
        let whose_move = if problem.whose_move == WhoseMove::Caller { WhoseMove::Administrator } else { problem.whose_move };
        TrialLine { step, well: false, says: problem.title, next: Some(problem.next_step), whose_move: Some(whose_move) }
    }));
    Trial { well: all_well, steps }
}
