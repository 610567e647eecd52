//! A diagnosis as people read it, from the server or from a workstation.

use jetfrost_wire::diagnosis::Diagnosis;

use crate::failure::Code;
use crate::ui::Ui;

/// A diagnosis, and the code that it ends with.
pub(crate) fn say_diagnosis(diagnosis: &Diagnosis, ui: &Ui) -> Code {
    ui.show(diagnosis, |diagnosis| {
        for line in &diagnosis.steps {
            ui.line(&format!("{}  {}", if line.well { "ok    " } else { "FAILED" }, line.says));
            if let Some(next) = &line.next {
                ui.line(&format!("      Next: {next}"));
            }
        }
    });
    if diagnosis.well { Code::Done } else { Code::Failed }
}
