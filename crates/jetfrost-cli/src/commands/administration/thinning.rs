//! `jetfrost thinning`: what expires, and when.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::job::Job as JobRecord;
use jetfrost_wire::size::show;

use crate::commands::administration::job::{say_end_of, wait_for};
use crate::commands::administration::point::{preview, say_fates};
use crate::commands::administration::store::workstation_named;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Thinning {
    /// Shows which points of a workstation would expire next and what space that would free; changes nothing.
    Preview {
        /// The workstation's name.
        workstation: String,
    },
    /// Removes expired points now and waits until their space is free.
    Start {
        /// The workstation's name.
        workstation: String,
    },
}

impl Thinning {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::Preview { workstation } => {
                let preview = preview(&api, &workstation)?;
                ui.show(&preview, |preview| {
                    say_fates(&preview.points, ui);
                    let going = preview.points.iter().filter(|fate| fate.stays.is_none()).count() as u64;
                    ui.line(&format!("Rule: {}.", preview.retention));
                    if preview.keeps_earlier_promises {
                        ui.line("The terms were changed: points from before that stay as long as they were promised then.");
                    }
                    let freed = format!("{} ({})", show(preview.freed_bytes), many(preview.freed_chunks, "chunk"));
                    ui.line(&format!("{} would expire, which frees {freed}.", many(going, "point")));
                });
                Ok(Code::Done)
            }
            Self::Start { workstation } => {
                let w = workstation_named(&api, &workstation)?;
                let begun: JobRecord = api.call(&calls::begin_thinning(&w.store.id))?;
                say_end_of(&wait_for(&api, begun)?, ui)
            }
        }
    }
}
