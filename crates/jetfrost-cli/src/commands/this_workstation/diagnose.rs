//! `jetfrost diagnose`: why a backup would fail.

use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::diagnosis::Diagnosis;

use crate::commands::diagnosis::say_diagnosis;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

/// Finds out why a backup would fail. Tries every step from this machine and leaves nothing behind.
pub(crate) fn diagnose(state_dir: &StateDir, ui: &Ui) -> Done {
    let (membership, api) = state_dir.device_api()?;
    let diagnosis: Diagnosis = api.call(&calls::diagnose_own(&membership.workstation))?;
    ui.remark(&format!("The service at {} answers, and knows this workstation.", membership.address));
    Ok(say_diagnosis(&diagnosis, ui))
}
