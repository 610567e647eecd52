//! Where a command reads from: this machine's image store, a workstation's at the service, or a directory without the service.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::Secret;
use jetfrost_client::at_service::StoreAtService;
use jetfrost_client::browse::Browser;
use jetfrost_client::salvage::{FoundStore, Opening, StoreKeys};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::workstation::UnlockMethodKind;

use crate::commands::administration::store::workstation_named;
use crate::commands::keys::secret::Which;
use crate::failure::Failure;
use crate::ui::{Ui, moment};

/// Where a command reads from.
#[derive(Debug, Args)]
pub(crate) struct ReadFrom {
    /// Read from this directory with an image store in it, without the service. Nothing in it is changed.
    #[arg(long, value_name = "DIR")]
    store_directory: Option<PathBuf>,
    /// Read the image store of this workstation at the service, as the account that is signed in here (`jetfrost sign-in`).
    #[arg(long = "of", value_name = "WORKSTATION", conflicts_with = "store_directory")]
    workstation: Option<String>,
    #[command(flatten)]
    which: Which,
}

impl ReadFrom {
    /// Opens what is read from.
    pub(crate) fn browser(&self, state_dir: &StateDir, ui: &Ui) -> Result<Browser, Failure> {
        if let Some(name) = &self.workstation {
            return self.at_service(name, state_dir, ui);
        }
        let Some(directory) = &self.store_directory else { return Ok(Browser::open(state_dir)?) };
        let store = FoundStore::open(directory)?;
        let keys = keys_of(&store, &self.which, state_dir, ui)?;
        Ok(store.browse(keys))
    }

    /// Whether it is something else than what this machine backs up.
    pub(crate) fn is_elsewhere(&self) -> bool {
        self.workstation.is_some() || self.store_directory.is_some()
    }

    /// Whether it is a workstation's image store at the service.
    pub(crate) fn is_of_a_workstation(&self) -> bool {
        self.workstation.is_some()
    }

    /// Says whose image store it is and what opens it, before that is asked for: there are three secrets, and none is the account's password.
    pub(crate) fn say_what_opens_it(&self, state_dir: &StateDir, ui: &Ui) -> Result<(), Failure> {
        let Some(name) = &self.workstation else { return Ok(()) };
        let (_, api) = state_dir.session_api()?;
        let workstation = workstation_named(&api, name)?;
        ui.remark(&format!("Store     of {}, a machine of {} ({})", workstation.name, workstation.person, workstation.login));
        for way in api.call(&calls::unlock_methods(&workstation.store.id))?.items {
            let (secret, option) = match way.kind {
                UnlockMethodKind::Passphrase => ("its image passphrase, set at the machine", ""),
                UnlockMethodKind::RecoveryKey => ("its recovery key, printed", ": --recovery-key"),
                UnlockMethodKind::OfficeKey => ("the office key, agreed to", ": --office-key FILE"),
                UnlockMethodKind::Unencrypted => ("nothing: it is not encrypted", ""),
            };
            ui.remark(&format!("Opens by  {secret} {}{option}", moment(way.made)));
        }
        Ok(())
    }

    fn at_service(&self, name: &str, state_dir: &StateDir, ui: &Ui) -> Result<Browser, Failure> {
        let (_, api) = state_dir.session_api()?;
        let workstation = workstation_named(&api, name)?;
        let store = StoreAtService::new(api, &workstation);
        let keys = if workstation.store.encrypted {
            self.which.open(&format!("of {}", workstation.name), ui, |opening| store.unlock(opening))?
        } else {
            store.unlock(&Opening::Secret(Secret::None))?
        };
        Ok(store.browse(keys))
    }
}

/// The keys of a store: this machine has them if it is its workstation, else they are asked for.
pub(super) fn keys_of(store: &FoundStore, which: &Which, state_dir: &StateDir, ui: &Ui) -> Result<StoreKeys, Failure> {
    let without = || store.unlock(&Opening::Secret(Secret::None)).ok();
    match store.key_of(state_dir).or_else(without) {
        Some(keys) => Ok(keys),
        None => which.open("of this image store", ui, |opening| store.unlock(opening)),
    }
}
