//! Ways into a workstation's image store, and the office key.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jetfrost_client::api::{Api, Method};
use jetfrost_client::home::Home;
use jetfrost_client::salvage::Opening;
use jetfrost_client::ways_in::{
    add_passphrase, add_recovery_key, entrust, measured_cost, new_office_key, office_key_of, remove, slot_of, unlock,
    unlock_with_office_key, ways_in,
};
use jetfrost_client::{ClientError, OfficeKey, OfficeKeyFile, OfficePublicKey, RecoveryKey, Secret, system_random};
use jetfrost_wire::Binary;
use jetfrost_wire::service::{Carry, Escrow as EscrowRecord, NewEscrow, ServiceInfo, SignIn, SignedIn};
use jetfrost_wire::workstation::{WayIn, WayInKind};
use serde_json::json;

use super::words;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, moment};

type Done = Result<Code, Failure>;

/// An office key's file is not longer.
const MOST_KEY_FILE: usize = 4096;

fn passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--passphrase-file", variable: "JETFROST_PASSPHRASE" }
}

fn new_passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--new-passphrase-file", variable: "JETFROST_NEW_PASSPHRASE" }
}

/// Which of its secrets opens an image store.
#[derive(Debug, Args)]
pub(crate) struct Which {
    /// Asks for the printed recovery key instead of the image passphrase; or set JETFROST_RECOVERY_KEY.
    #[arg(long, conflicts_with_all = ["passphrase_file", "office_key"])]
    recovery_key: bool,
    /// Opens with the office key in this file, whose own passphrase is asked for; or set JETFROST_OFFICE_PASSPHRASE.
    #[arg(long, value_name = "FILE", conflicts_with = "passphrase_file")]
    office_key: Option<PathBuf>,
    /// A file whose first line is the image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
}

impl Which {
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

#[derive(Debug, Args)]
pub(crate) struct Unlock {
    #[command(flatten)]
    which: Which,
}

impl Unlock {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let name = home.membership()?.name;
        let was_lost = self.which.open(&format!("of workstation '{name}'"), ui, |opening| match opening {
            Opening::Secret(secret) => unlock(home, *secret),
            Opening::Office(office) => unlock_with_office_key(home, office),
        })?;
        ui.show(&json!({ "opens": true, "key_was_lost": was_lost }), |_| {
            ui.line(&format!("This secret opens the image store of '{name}'."));
            if was_lost {
                ui.line("The store key was missing on this machine and is in place again.");
            }
        });
        Ok(Code::Done)
    }
}

pub(crate) fn list(home: &Home, ui: &Ui) -> Done {
    let ways = ways_in(home)?;
    ui.show(&ways, |ways| say(ways, ui));
    Ok(Code::Done)
}

/// Ways in, as a table.
pub(crate) fn say(ways: &[WayIn], ui: &Ui) {
    let row = |way: &WayIn| {
        let kind = words::way_in(way.kind);
        let kind = if way.damaged { format!("{kind} (file damaged)") } else { kind.into() };
        vec![kind, way.label.clone().unwrap_or_default(), moment(way.made), way.id.clone()]
    };
    ui.table(&["way in", "label", "made", "id"], ways.iter().map(row).collect(), &[], "Nothing opens this image store.");
    if ways.iter().any(|way| way.damaged) {
        ui.line("The service has damaged ones on record and hands them out as they were; a scrub writes their files again.");
    }
}

#[derive(Debug, Args)]
pub(crate) struct ChangePassphrase {
    /// A file whose first line is the present image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// A file whose first line is the new one; or set JETFROST_NEW_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    new_passphrase_file: Option<PathBuf>,
    #[command(flatten)]
    person: Person,
}

impl ChangePassphrase {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let name = home.membership()?.name;
        let what = format!("the present image passphrase of workstation '{name}'");
        let present = ui.secret(&what, &passphrase_given(self.passphrase_file.as_deref()), false)?;
        let old = slot_of(home, Secret::Passphrase(&present))?;
        let what = format!("the new image passphrase of workstation '{name}'");
        let new = ui.secret(&what, &new_passphrase_given(self.new_passphrase_file.as_deref()), true)?;
        let way = add_passphrase(home, &new, None, measured_cost(), &system_random())?;
        ui.remark("The new passphrase opens the image store. No data was written again.");
        take_away(home, &[old.to_string()], "the old passphrase", &self.person, ui, &way)
    }
}

#[derive(Debug, Args)]
pub(crate) struct AddPassphrase {
    /// What it is for, such as a name; everyone who sees this workstation can read it.
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// A file whose first line is the new passphrase; or set JETFROST_NEW_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    new_passphrase_file: Option<PathBuf>,
}

impl AddPassphrase {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let what = format!("one more image passphrase of workstation '{}'", home.membership()?.name);
        let new = ui.secret(&what, &new_passphrase_given(self.new_passphrase_file.as_deref()), true)?;
        let way = add_passphrase(home, &new, self.label, measured_cost(), &system_random())?;
        ui.show(&way, |_| ui.line("This passphrase opens the image store, too. All ways in:  jetfrost ways-in"));
        Ok(Code::Done)
    }
}

#[derive(Debug, Args)]
pub(crate) struct RenewRecoveryKey {
    #[command(flatten)]
    person: Person,
}

impl RenewRecoveryKey {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let before = ways_in(home)?;
        let (key, way) = add_recovery_key(home, &system_random())?;
        ui.line("  Recovery key, shown this once:");
        ui.line(&format!("  {key}"));
        ui.line("");
        ui.line("Print it and keep it away from this machine.");
        let old: Vec<String> = before.into_iter().filter(|w| w.kind == WayInKind::RecoveryKey).map(|w| w.id).collect();
        take_away(home, &old, "the old recovery key", &self.person, ui, &way)
    }
}

#[derive(Debug, Args)]
pub(crate) struct RemoveWayIn {
    /// Its id, as 'jetfrost ways-in' shows it.
    id: String,
    #[command(flatten)]
    person: Person,
}

impl RemoveWayIn {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let membership = home.membership()?;
        let api = self.person.sign_in(home, ui)?;
        remove(&api, &membership.store, &self.id)?;
        list(home, ui)
    }
}

/// How the person at the workstation shows who they are, where the machine's own credential is not enough.
#[derive(Debug, Args)]
pub(crate) struct Person {
    /// A file whose first line is the password of this workstation's account; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
}

impl Person {
    fn sign_in(&self, home: &Home, ui: &Ui) -> Result<Api, Failure> {
        let m = home.membership()?;
        let given = Given { file: self.password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
        let password = ui.secret(&format!("the password of account '{}'", m.login), &given, false)?;
        let api = Api::new(&m.address, Some(&m.fingerprint))?;
        let call = SignIn { login: m.login, password, code: None, carry: Carry::Token, label: Some("ways in".into()) };
        let signed_in: SignedIn = api.post("/sessions", &call)?;
        Ok(api.with_credential(&signed_in.token.ok_or_else(|| ClientError::Unexpected("no token".into()))?))
    }
}

/// Takes old ways in away now that a new one is there. Without the person's password they stay, and that is said.
fn take_away(home: &Home, old: &[String], what: &str, person: &Person, ui: &Ui, new: &WayIn) -> Done {
    let store = home.membership()?.store;
    let taken = person.sign_in(home, ui).and_then(|api| {
        for id in old {
            remove(&api, &store, id)?;
        }
        // The session was for this only; that it could not be ended early does no harm.
        let _ = api.delete("/sessions/current");
        Ok(())
    });
    match taken {
        Ok(()) => {
            ui.show(new, |_| ui.line(&format!("{} opens it no more.", words::capital(what))));
            Ok(Code::Done)
        }
        Err(failure) => {
            let ids = old.join(", ");
            ui.remark(&format!("The new one is in place, but {what} still opens the image store."));
            ui.remark(&format!("Taking it away needs the account's password, or an administrator: jetfrost remove-way-in {ids}"));
            Err(failure)
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Entrust {
    /// Agrees without being asked, if the office key has this mark.
    #[arg(long, value_name = "MARK")]
    mark: Option<String>,
}

impl Entrust {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.device_api()?;
        let info: ServiceInfo = api.get("/service")?;
        let Some(office) = office_key_of(&info)? else {
            return Err(Failure::here("This office asks for no office key.", "Nothing was changed."));
        };
        if !agrees(&office, self.mark.as_deref(), ui) {
            return Err(Failure::here("The office key was not trusted.", "Nothing was changed."));
        }
        let way = entrust(home, &office, &system_random())?;
        ui.show(&way, |_| {
            ui.line("The office key opens this workstation's image store, too.");
            ui.line(&format!("Take that back with:  jetfrost remove-way-in {}", way.id));
        });
        Ok(Code::Done)
    }
}

/// Tells a person what an office key is and asks for their word. A mark given beforehand must be the key's.
pub(crate) fn agrees(office: &OfficePublicKey, mark: Option<&str>, ui: &Ui) -> bool {
    ui.remark(&format!("This office keeps an office key; its mark is {}.", office.mark()));
    ui.remark("Whoever holds its private half and its passphrase can read the backups of workstations that agree,");
    ui.remark("also when passphrase and recovery key are lost. You can take it back later.");
    match mark {
        Some(mark) => mark.eq_ignore_ascii_case(&office.mark()),
        None => ui.agrees("Shall it open this workstation's backups?"),
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Escrow {
    /// Says whether the office asks for an office key, and its mark.
    Show,
    /// Makes an office key into a file that only you keep, and asks workstations to trust it. Each person is told and decides.
    Start {
        /// The file to make; it must not be there yet.
        file: PathBuf,
        /// A file whose first line is the passphrase of the office key; or set JETFROST_OFFICE_PASSPHRASE.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Asks no workstation: the key only seals copies of the service's own records.
        #[arg(long)]
        for_records_only: bool,
    },
    /// Asks no more. Where it was trusted, it stays until it is taken away.
    End,
}

impl Escrow {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::Show => {
                let info: ServiceInfo = api.get("/service")?;
                let key = office_key_of(&info)?;
                ui.show(&info.escrow, |escrow| match (escrow, key) {
                    (Some(escrow), Some(key)) => {
                        ui.line(&format!(
                            "Workstations are asked to trust the office key {} since {}.",
                            key.mark(),
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
                api.delete("/escrow")?;
                ui.line(
                    "Workstations are no longer asked. Those that trusted the key still do: see 'jetfrost workstation show'.",
                );
            }
        }
        Ok(Code::Done)
    }
}

fn office_passphrase_given(file: Option<&Path>) -> Given<'_> {
    Given { file, option: "--passphrase-file", variable: "JETFROST_OFFICE_PASSPHRASE" }
}

fn start(api: &Api, path: &Path, passphrase_file: Option<&Path>, ask_workstations: bool, ui: &Ui) -> Done {
    let passphrase = ui.secret("a new passphrase for the office key", &office_passphrase_given(passphrase_file), true)?;
    jetfrost_client::join::check_passphrase(&passphrase)?;
    let (public, file) = new_office_key(&passphrase, measured_cost(), &system_random());
    let write = || {
        let mut out = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
        out.write_all(&file.to_bytes())?;
        out.sync_all()
    };
    write().map_err(|e: std::io::Error| {
        Failure::here(format!("{} cannot be made: {e}.", path.display()), "Give a path that is not there yet.")
    })?;
    let new = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations };
    let escrow: EscrowRecord = api.send(Method::PUT, "/escrow", &new)?;
    ui.show(&escrow, |_| {
        ui.line(&format!("The office key is in {}; its mark is {}.", path.display(), public.mark()));
        ui.line("Keep the file away from this machine and from the service, and its passphrase away from the file.");
        ui.line("From now on copies of the service's own records, sealed for it, are written onto every destination.");
        if ask_workstations {
            ui.line("New workstations are asked when they join; those that are there already: jetfrost entrust");
        }
    });
    Ok(Code::Done)
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
