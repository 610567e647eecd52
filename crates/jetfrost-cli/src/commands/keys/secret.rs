//! Secrets that unlock an image store, as they are given.

use std::path::{Path, PathBuf};

use clap::Args;
use jetfrost_client::salvage::Opening;
use jetfrost_client::{ClientError, OfficeKey, OfficeKeyFile, RecoveryKey, Secret};

use crate::failure::Failure;
use crate::ui::{Given, Ui};

/// An office key's file is not longer.
const MOST_KEY_FILE: usize = 4096;

pub(crate) fn passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--passphrase-file", variable: "JETFROST_PASSPHRASE" }
}

pub(crate) fn new_passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--new-passphrase-file", variable: "JETFROST_NEW_PASSPHRASE" }
}

/// Which of its secrets unlocks an image store.
#[derive(Debug, Args)]
pub(crate) struct Which {
    /// Ask for the printed recovery key instead of the image passphrase; or set JETFROST_RECOVERY_KEY.
    #[arg(long, conflicts_with_all = ["passphrase_file", "office_key"])]
    recovery_key: bool,
    /// Unlock with the office key in this file. Its passphrase is asked for; or set JETFROST_OFFICE_PASSPHRASE.
    #[arg(long, value_name = "FILE", conflicts_with = "passphrase_file")]
    office_key: Option<PathBuf>,
    /// A file whose first line is the image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
}

impl Which {
    /// The one that somebody chose; of an office key, in which file it is.
    pub(crate) fn chosen(recovery_key: bool, office_key: Option<PathBuf>) -> Self {
        Self { recovery_key, office_key, passphrase_file: None }
    }

    /// Asks for the secret, which is `of` somebody, and opens with it.
    pub(crate) fn open<T>(
        &self,
        of: &str,
        ui: &Ui,
        open: impl FnOnce(&Opening<'_>) -> Result<T, ClientError>,
    ) -> Result<T, Failure> {
        if self.recovery_key {
            let given = Given { file: None, option: "--recovery-key", variable: "JETFROST_RECOVERY_KEY" };
            let typed = ui.secret(&format!("the recovery key {of}"), &given, false)?;
            let key = RecoveryKey::parse(&typed).map_err(|e| Failure::Client(e.into()))?;
            Ok(open(&Opening::Secret(Secret::RecoveryKey(&key)))?)
        } else if let Some(file) = &self.office_key {
            Ok(open(&Opening::Office(&read_office_key(file, ui)?))?)
        } else {
            let given = passphrase_given(self.passphrase_file.as_deref());
            let passphrase = ui.secret(&format!("the image passphrase {of}"), &given, false)?;
            Ok(open(&Opening::Secret(Secret::Passphrase(&passphrase)))?)
        }
    }
}

pub(crate) fn office_passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--passphrase-file", variable: "JETFROST_OFFICE_PASSPHRASE" }
}

fn read_office_key(path: &Path, ui: &Ui) -> Result<OfficeKey, Failure> {
    let unreadable = |why: String| {
        Failure::here(
            format!("{} is not an office key: {why}.", path.display()),
            "Give the file that 'jetfrost escrow start' made.",
        )
    };
    let bytes = std::fs::read(path).map_err(|e| unreadable(e.to_string()))?;
    if bytes.len() > MOST_KEY_FILE {
        return Err(unreadable("it is longer than such files are".into()));
    }
    let file = OfficeKeyFile::from_bytes(&bytes).map_err(|e| unreadable(e.to_string()))?;
    let passphrase = ui.secret("the passphrase of the office key", &office_passphrase_given(None), false)?;
    OfficeKey::unwrap(&file, &passphrase).map_err(|e| Failure::Client(e.into()))
}
