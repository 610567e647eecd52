//! By what this workstation knows its service, and where it reaches it.

use clap::Args;
use jetfrost_client::join::{accept_address, accept_identity, find_again};
use jetfrost_client::state_dir::StateDir;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

/// Accepts another identity of the service.
#[derive(Debug, Args)]
pub(crate) struct AcceptIdentity {
    /// The fingerprint of the identity, as 'jetfrostd identity' prints it on the server. Have it from the administrator, not from
    /// the network.
    fingerprint: String,
}

impl AcceptIdentity {
    pub(crate) fn run(&self, state_dir: &StateDir, ui: &Ui) -> Result<Code, Failure> {
        let membership = accept_identity(state_dir, &self.fingerprint)?;
        ui.show(&membership.fingerprint, |_| {
            ui.line(&format!("{} has this identity. {} knows it by it from now on.", membership.address, membership.name));
        });
        Ok(Code::Done)
    }
}

/// Reaches the service at another address.
#[derive(Debug, Args)]
pub(crate) struct AcceptAddress {
    /// Where the service is now, as host:port [default: where it is discovered]. It must have the identity that this workstation knows.
    address: Option<String>,
}

impl AcceptAddress {
    pub(crate) fn run(&self, state_dir: &StateDir, ui: &Ui) -> Result<Code, Failure> {
        let membership = match &self.address {
            Some(address) => accept_address(state_dir, address)?,
            None => find_again(state_dir)?.ok_or_else(|| {
                Failure::here(
                    "The service is not found at another address on this network.",
                    "Give the address, as host:port, or find out what is in the way: jetfrost diagnose",
                )
            })?,
        };
        ui.show(&membership.address, |address| {
            ui.line(&format!(
                "The service answers at {address}, with the identity that '{}' knows. It is reached there from now on.",
                membership.name
            ));
        });
        Ok(Code::Done)
    }
}
