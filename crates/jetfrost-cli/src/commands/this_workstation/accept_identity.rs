//! By what this workstation knows its service.

use clap::Args;
use jetfrost_client::home::Home;
use jetfrost_client::join::accept_identity;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

/// Takes another identity for the service's.
#[derive(Debug, Args)]
pub(crate) struct AcceptIdentity {
    /// The fingerprint of the identity, as 'jetfrostd identity' prints it on the server. Have it from the administrator, not from
    /// the network.
    fingerprint: String,
}

impl AcceptIdentity {
    pub(crate) fn run(&self, home: &Home, ui: &Ui) -> Result<Code, Failure> {
        let membership = accept_identity(home, &self.fingerprint)?;
        ui.show(&membership.fingerprint, |_| {
            ui.line(&format!("{} has this identity. {} knows it by it from now on.", membership.address, membership.name));
        });
        Ok(Code::Done)
    }
}
