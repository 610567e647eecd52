//! Where a command reads from: this machine's image store, a workstation's at the service, or a directory without the service.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::Secret;
use jetfrost_client::api::Api;
use jetfrost_client::at_service::StoreAtService;
use jetfrost_client::browse::Browser;
use jetfrost_client::salvage::{FoundStore, Opening, SlotKind, StoreKeys};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::workstation::{UnlockMethodKind, Workstation};
use jiff::Timestamp;

use crate::commands::administration::store::workstation_named;
use crate::commands::keys::secret::Which;
use crate::failure::Failure;
use crate::ui::Ui;

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
        self.source(state_dir)?.open(&self.which, state_dir, ui)
    }

    /// Finds what is read from.
    pub(crate) fn source(&self, state_dir: &StateDir) -> Result<Source, Failure> {
        if let Some(name) = &self.workstation {
            let (_, api) = state_dir.session_api()?;
            let workstation = workstation_named(&api, name)?;
            return Ok(Source::of_workstation(api, workstation));
        }
        match &self.store_directory {
            Some(directory) => Ok(Source::Directory(FoundStore::open(directory)?)),
            None => Ok(Source::Own),
        }
    }

    /// Which of its secrets opens it.
    pub(crate) fn which(&self) -> &Which {
        &self.which
    }

    /// Whether it is something else than what this machine backs up.
    pub(crate) fn is_elsewhere(&self) -> bool {
        self.workstation.is_some() || self.store_directory.is_some()
    }

    /// Whether it is a workstation's image store at the service.
    pub(crate) fn is_of_a_workstation(&self) -> bool {
        self.workstation.is_some()
    }
}

/// What is read from, found and not opened yet.
pub(crate) enum Source {
    /// What this machine backs up.
    Own,
    /// A workstation's image store at the service.
    Workstation(Box<AtService>),
    /// An image store in a directory.
    Directory(FoundStore),
}

/// A workstation's image store at the service.
pub(crate) struct AtService {
    api: Api,
    workstation: Workstation,
}

/// Something that opens an image store, and when it was made.
#[derive(Debug, Clone, Copy)]
pub(crate) struct WayIn {
    pub(crate) kind: UnlockMethodKind,
    pub(crate) made: Timestamp,
}

impl WayIn {
    /// Which secret it is, and where it was set.
    pub(crate) fn secret(self) -> &'static str {
        match self.kind {
            UnlockMethodKind::Passphrase => "its image passphrase, set at the machine",
            UnlockMethodKind::RecoveryKey => "its recovery key, printed",
            UnlockMethodKind::OfficeKey => "the office key, agreed to",
            UnlockMethodKind::Unencrypted => "nothing: it is not encrypted",
        }
    }

    /// The option that asks for it.
    pub(crate) fn option(self) -> &'static str {
        match self.kind {
            UnlockMethodKind::Passphrase | UnlockMethodKind::Unencrypted => "",
            UnlockMethodKind::RecoveryKey => ": --recovery-key",
            UnlockMethodKind::OfficeKey => ": --office-key FILE",
        }
    }
}

impl Source {
    pub(crate) fn of_workstation(api: Api, workstation: Workstation) -> Self {
        Self::Workstation(Box::new(AtService { api, workstation }))
    }

    /// Whose it is, where that is not this machine.
    pub(crate) fn whose(&self) -> Option<String> {
        let Self::Workstation(there) = self else { return None };
        let Workstation { name, person, login, .. } = &there.workstation;
        Some(format!("of {name}, a machine of {person} ({login})"))
    }

    /// What opens it: there are three secrets, and none is the account's password. This machine's own store is open here.
    pub(crate) fn ways_in(&self) -> Result<Vec<WayIn>, Failure> {
        let mut ways: Vec<WayIn> = match self {
            Self::Own => Vec::new(),
            Self::Workstation(there) => {
                let methods = there.api.call(&calls::unlock_methods(&there.workstation.store.id))?.items;
                methods.iter().map(|way| WayIn { kind: way.kind, made: way.made }).collect()
            }
            Self::Directory(store) => {
                store.ways_in()?.into_iter().map(|(kind, made)| WayIn { kind: kind_of(kind), made }).collect()
            }
        };
        ways.sort_by_key(|way| (way.kind, way.made));
        Ok(ways)
    }

    /// Opens it with a secret, which is asked for where it needs one.
    pub(crate) fn open(&self, which: &Which, state_dir: &StateDir, ui: &Ui) -> Result<Browser, Failure> {
        match self {
            Self::Own => Ok(Browser::open(state_dir)?),
            Self::Directory(store) => {
                let keys = keys_of(store, which, state_dir, ui)?;
                Ok(store.clone().browse(keys))
            }
            Self::Workstation(there) => {
                let store = StoreAtService::new(there.api.clone(), &there.workstation);
                let keys = if there.workstation.store.encrypted {
                    which.open(&format!("of {}", there.workstation.name), ui, |opening| store.unlock(opening))?
                } else {
                    store.unlock(&Opening::Secret(Secret::None))?
                };
                Ok(store.browse(keys))
            }
        }
    }
}

fn kind_of(kind: SlotKind) -> UnlockMethodKind {
    match kind {
        SlotKind::Passphrase => UnlockMethodKind::Passphrase,
        SlotKind::RecoveryKey => UnlockMethodKind::RecoveryKey,
        SlotKind::Escrow => UnlockMethodKind::OfficeKey,
        SlotKind::Open => UnlockMethodKind::Unencrypted,
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
