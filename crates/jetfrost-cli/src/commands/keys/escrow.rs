//! `jetfrost escrow`: the office key.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::system_random;
use jetfrost_client::unlock_methods::{check_passphrase, measured_cost, new_office_key, office_key_of};
use jetfrost_platform::Opening;
use jetfrost_wire::Binary;
use jetfrost_wire::calls;
use jetfrost_wire::service::{Escrow as EscrowRecord, NewEscrow, ServiceInfo};

use crate::commands::keys::secret::office_passphrase_given;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Escrow {
    /// Shows whether the office has an office key, and its fingerprint.
    Show,
    /// Makes an office key in a file that only you keep, and asks workstations to trust it. Each person decides.
    Start {
        /// File to write; it must not exist yet.
        file: PathBuf,
        /// A file whose first line is the passphrase of the office key; or set JETFROST_OFFICE_PASSPHRASE.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Ask no workstation: the key only seals backups of the records.
        #[arg(long)]
        for_records_only: bool,
    },
    /// Stop asking. Workstations that trust the key keep doing so until it is removed there.
    End,
}

impl Escrow {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::Show => {
                let info: ServiceInfo = api.call(&calls::service_info())?;
                let key = office_key_of(&info)?;
                ui.show(&info.escrow, |escrow| match (escrow, key) {
                    (Some(escrow), Some(key)) => {
                        ui.line(&format!(
                            "Workstations are asked to trust the office key {} since {}.",
                            key.fingerprint(),
                            moment(escrow.since)
                        ));
                    }
                    _ => ui.line("This office asks for no office key. Next: jetfrost escrow start FILE"),
                });
            }
            Self::Start { file, passphrase_file, for_records_only } => {
                return start(&api, &file, passphrase_file.as_deref(), !for_records_only, ui);
            }
            Self::End => {
                api.call(&calls::end_escrow())?;
                ui.line(
                    "Workstations are no longer asked. Those that trusted the key still do: see 'jetfrost workstation show'.",
                );
            }
        }
        Ok(Code::Done)
    }
}

fn start(api: &Api, path: &Path, passphrase_file: Option<&Path>, ask_workstations: bool, ui: &Ui) -> Done {
    let passphrase = ui.secret("a new passphrase for the office key", &office_passphrase_given(passphrase_file), true)?;
    check_passphrase(&passphrase)?;
    let (public, file) = new_office_key(&passphrase, measured_cost(), &system_random());
    let write = || {
        let mut out = OpenOptions::new().write(true).create_new(true).private().open(path)?;
        out.write_all(&file.to_bytes())?;
        out.sync_all()
    };
    write().map_err(|e: std::io::Error| {
        Failure::here(format!("{} cannot be made: {e}.", path.display()), "Give a path that is not there yet.")
    })?;
    let new = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations };
    let escrow: EscrowRecord = api.call_with(&calls::start_escrow(), &new)?;
    ui.show(&escrow, |_| {
        ui.line(&format!("The office key is in {}; its fingerprint is {}.", path.display(), public.fingerprint()));
        ui.line("Keep the file away from this machine and from the service, and its passphrase away from the file.");
        ui.line("From now on backups of the records, sealed for it, are written onto every destination.");
        if ask_workstations {
            ui.line("New workstations are asked when they join; those that are there already: jetfrost unlock-method trust-office-key");
        }
    });
    Ok(Code::Done)
}
