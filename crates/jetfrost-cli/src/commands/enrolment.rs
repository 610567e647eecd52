//! Enrolment codes, the roster, and hand-outs.

use std::fs::{self, OpenOptions};
use std::io::{Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use jetfrost_client::api::Api;
use jetfrost_client::home::Home;
use jetfrost_wire::enrolment::{CodeLimit, CodeState, EnrolmentCode, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::roster::{
    AskHandOuts, HandOutForm, Roster as RosterText, RosterAct, RosterDone, RosterFault, RosterPlan, RosterStep,
};

use super::keeping::Limit;
use super::words;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment};

type Done = Result<Code, Failure>;

/// A roster is not longer.
const MOST_ROSTER: u64 = 4 << 20;

#[derive(Debug, Subcommand)]
pub(crate) enum Enrolment {
    /// Lists enrolment codes, without the codes themselves.
    List,
    /// Makes an enrolment code for an account.
    Add {
        /// Login name of the account that the machine will belong to.
        login: String,
        /// The destination of its image store; may be left out when there is only one.
        #[arg(long)]
        destination: Option<String>,
        /// The name that the workstation gets, whatever the machine calls itself.
        #[arg(long, value_name = "NAME", conflicts_with = "claims")]
        machine: Option<String>,
        /// The limit of its image store, such as 1.5TB, or none; the usual one unless given.
        #[arg(long, value_name = "SIZE", conflicts_with = "claims")]
        limit: Option<Limit>,
        /// Makes an image store that is not encrypted, where the destination allows it.
        #[arg(long, conflicts_with = "claims")]
        without_encryption: bool,
        /// Hours until the code ends, 1 to 720.
        #[arg(long, default_value_t = 48)]
        hours: u16,
        /// Hands an existing workstation of this account, with its image store, to a machine instead of making a new one.
        #[arg(long, value_name = "WORKSTATION", conflicts_with = "destination")]
        claims: Option<String>,
        /// Writes a hand-out for the person at the machine: a new file, PDF if it is called so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_out: Option<PathBuf>,
    },
    /// Gives open and expired codes new secrets, as when hand-outs were lost. Those from before open nothing any more.
    Renew {
        /// Their ids, or the machines that they are for.
        #[arg(required_unless_present = "all_waiting")]
        codes: Vec<String>,
        /// All codes that wait for a machine.
        #[arg(long, conflicts_with = "codes")]
        all_waiting: bool,
        /// Writes hand-outs, a page each, into a new file: PDF if it is called so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_outs: Option<PathBuf>,
    },
    /// Cancels an open enrolment code.
    Cancel {
        /// Its id, from the list.
        id: String,
    },
}

impl Enrolment {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let codes: Vec<EnrolmentCode> = api.list("/enrolment-codes")?;
                ui.show(&codes, |codes| say_codes(codes, ui));
            }
            Self::Add { login, destination, machine, limit, without_encryption, hours, claims, hand_out } => {
                let limit = limit.map_or(CodeLimit::Usual, |limit| match limit.bytes() {
                    Some(bytes) => CodeLimit::Bytes { bytes },
                    None => CodeLimit::None,
                });
                let hours = Some(hours);
                let new = NewEnrolmentCode { login, destination, hours, claims, machine, limit, without_encryption };
                let sheet = hand_out.map(Sheet::reserve).transpose()?;
                let issued: IssuedCode = api.post("/enrolment-codes", &new)?;
                ui.show(&issued, |issued| say_issued(issued, ui));
                hand_out_to(sheet, &api, std::slice::from_ref(&issued), ui)?;
            }
            Self::Renew { codes, all_waiting, hand_outs } => return renew(&codes, all_waiting, hand_outs, &api, ui),
            Self::Cancel { id } => {
                api.delete(&format!("/enrolment-codes/{id}"))?;
                ui.line("The code was cancelled.");
            }
        }
        Ok(Code::Done)
    }
}

fn say_codes(codes: &[EnrolmentCode], ui: &Ui) {
    let row = |c: &EnrolmentCode| {
        let machine = c.workstation.clone().or(c.machine.clone()).or(c.claims.clone()).unwrap_or_default();
        let state = words::code(c.state).to_owned();
        vec![c.id.0.clone(), c.login.clone(), machine, c.destination.clone(), state, moment(c.expires)]
    };
    let heads = ["id", "for", "machine", "destination", "state", "ends"];
    ui.table(&heads, codes.iter().map(row).collect(), &[], "No code was made yet. Next: jetfrost enrolment add LOGIN");
}

fn say_issued(issued: &IssuedCode, ui: &Ui) {
    let record = &issued.record;
    let machine = record.machine.as_ref().map_or_else(|| "a machine".into(), |name| format!("'{name}'"));
    ui.line(&format!("For {machine} of {}, until {}, once:", record.login, moment(record.expires)));
    ui.line(&format!("  {}", issued.code));
    if let Some(workstation) = &record.claims {
        ui.line(&format!("It hands over the backups of '{workstation}'; a machine that has them now is cut off then."));
    }
    if !record.encrypted {
        ui.line("Its backups need not be encrypted. If they are not, whoever gets at the destination's disk can read them.");
        ui.line("On that machine:  jetfrost join CODE --without-encryption   (without that option they are encrypted)");
        return;
    }
    ui.line("On that machine:  jetfrost join CODE");
}

fn renew(which: &[String], all_waiting: bool, hand_outs: Option<PathBuf>, api: &Api, ui: &Ui) -> Done {
    let known: Vec<EnrolmentCode> = api.list("/enrolment-codes")?;
    let renewable = |code: &&EnrolmentCode| matches!(code.state, CodeState::Open | CodeState::Expired);
    let mut chosen: Vec<&EnrolmentCode> = Vec::new();
    if all_waiting {
        chosen.extend(known.iter().filter(renewable).filter(|code| code.machine.is_some()));
    }
    for wanted in which {
        let is_it = |code: &&EnrolmentCode| {
            code.id.0 == *wanted || code.machine.as_ref().is_some_and(|name| name.to_lowercase() == wanted.to_lowercase())
        };
        let found = known.iter().filter(renewable).find(is_it);
        chosen.push(found.ok_or_else(|| {
            Failure::here(format!("No open or expired code is '{wanted}' or for it."), "See 'jetfrost enrolment list'.")
        })?);
    }
    let sheet = hand_outs.map(Sheet::reserve).transpose()?;
    let renew = |code: &&EnrolmentCode| api.post(&format!("/enrolment-codes/{}/renewal", code.id), &());
    let issued: Vec<IssuedCode> = chosen.iter().map(renew).collect::<Result<_, _>>()?;
    ui.show(&issued, |issued| say_all_issued(issued, ui));
    hand_out_to(sheet, api, &issued, ui)?;
    Ok(Code::Done)
}

fn say_all_issued(issued: &[IssuedCode], ui: &Ui) {
    let row = |one: &IssuedCode| {
        let record = &one.record;
        vec![record.machine.clone().unwrap_or_default(), record.login.clone(), moment(record.expires), one.code.clone()]
    };
    ui.table(&["machine", "for", "until", "code"], issued.iter().map(row).collect(), &[], "No code was made.");
}

/// A file for hand-outs. It is made before the codes are, so that none is lost for want of a place.
struct Sheet {
    path: PathBuf,
    file: fs::File,
}

impl Sheet {
    fn reserve(path: PathBuf) -> Result<Self, Failure> {
        // The codes in it are for the people that they are handed to.
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(|e| {
            Failure::here(format!("{} cannot be made: {e}.", path.display()), "Name a new file. No code was made.")
        })?;
        Ok(Self { path, file })
    }

    fn form(&self) -> HandOutForm {
        let is_pdf = self.path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("pdf"));
        if is_pdf { HandOutForm::Pdf } else { HandOutForm::Html }
    }
}

/// Writes hand-outs where they were asked for. When that fails, the codes have been shown.
fn hand_out_to(sheet: Option<Sheet>, api: &Api, issued: &[IssuedCode], ui: &Ui) -> Result<(), Failure> {
    let Some(mut sheet) = sheet else { return Ok(()) };
    if issued.is_empty() {
        drop(fs::remove_file(&sheet.path));
        return Ok(());
    }
    let ask = AskHandOuts { codes: issued.iter().map(|one| one.code.clone()).collect(), form: sheet.form() };
    api.fetch_file("/hand-outs", &ask, &mut sheet.file)?;
    sheet.file.flush().and_then(|()| sheet.file.sync_all()).map_err(|e| {
        Failure::here(
            format!("{} cannot be written: {e}.", sheet.path.display()),
            "The codes are good: jetfrost enrolment renew --hand-outs FILE",
        )
    })?;
    ui.remark(&format!("{} in {}.", many(issued.len() as u64, "hand-out"), sheet.path.display()));
    Ok(())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Roster {
    /// Prints the header of a roster as CSV, to be filled in.
    Template {
        /// With the office as it is in it: add lines and bring it in.
        #[arg(long)]
        filled: bool,
    },
    /// Shows what a roster would change, asks, and does it: all of it, or nothing. Doing it again changes nothing more.
    BringIn {
        /// The roster; - for standard input.
        file: PathBuf,
        /// Shows what would change, and changes nothing.
        #[arg(long, conflicts_with_all = ["yes", "hand_outs"])]
        preview: bool,
        /// Does not ask.
        #[arg(long)]
        yes: bool,
        /// Hours until the enrolment codes end, 1 to 720.
        #[arg(long, default_value_t = 336)]
        hours: u16,
        /// Writes hand-outs for all machines that are new, a page each, into a new file: PDF if it is called so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_outs: Option<PathBuf>,
    },
}

impl Roster {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::Template { filled } => {
                let query = [("filled", filled.then(|| "true".to_owned()))];
                api.download("/roster", &query, &mut std::io::stdout())?;
                Ok(Code::Done)
            }
            Self::BringIn { file, preview, yes, hours, hand_outs } => {
                let roster = RosterText { table: read(&file)?, hours: Some(hours) };
                let plan: RosterPlan = api.post("/roster/plan", &roster)?;
                if preview || !plan.faults.is_empty() {
                    ui.show(&plan, |plan| say_plan(plan, ui));
                    return if plan.faults.is_empty() { Ok(Code::Done) } else { Err(faulty(&plan)) };
                }
                if !yes && !plan.steps.is_empty() {
                    say_plan(&plan, ui);
                    if !ui.agrees("Do all of this?") {
                        return Err(Failure::here("Nothing was changed.", "Answer with y, or add --yes."));
                    }
                }
                let sheet = hand_outs.map(Sheet::reserve).transpose()?;
                let done: RosterDone = api.post("/roster", &roster)?;
                let shown = sheet.is_some();
                ui.show(&done, |done| say_done(done, yes, shown, ui));
                hand_out_to(sheet, &api, &done.codes, ui)?;
                Ok(Code::Done)
            }
        }
    }
}

fn read(path: &Path) -> Result<String, Failure> {
    let said =
        |e: std::io::Error| Failure::here(format!("{} cannot be read: {e}.", path.display()), "Give a roster as CSV in UTF-8.");
    let mut bytes = Vec::new();
    let read = |from: &mut dyn Read, bytes: &mut Vec<u8>| from.take(MOST_ROSTER + 1).read_to_end(bytes);
    if path.as_os_str() == "-" {
        read(&mut std::io::stdin(), &mut bytes).map_err(said)?;
    } else {
        read(&mut fs::File::open(path).map_err(said)?, &mut bytes).map_err(said)?;
    }
    if bytes.len() as u64 > MOST_ROSTER {
        return Err(Failure::here(format!("{} is too long for a roster.", path.display()), "Make two of it."));
    }
    String::from_utf8(bytes).map_err(|e| {
        let line = e.as_bytes()[..e.utf8_error().valid_up_to()].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::here(format!("{}, line {line}, is not UTF-8.", path.display()), "Save it as CSV in UTF-8.")
    })
}

fn say_plan(plan: &RosterPlan, ui: &Ui) {
    if plan.faults.is_empty() {
        say_steps(&plan.steps, ui);
    }
    for fault in &plan.faults {
        ui.line(&format!("{}: {}", at(fault), fault.what));
    }
    let lines = format!("{} read, {} ask for nothing new.", many(plan.lines, "line"), plan.unchanged);
    ui.line(&lines);
}

fn at(fault: &RosterFault) -> String {
    match (&fault.column, fault.cell) {
        (Some(column), Some(cell)) => format!("line {}, cell {cell} ({column})", fault.line),
        _ => format!("line {}", fault.line),
    }
}

fn say_steps(steps: &[RosterStep], ui: &Ui) {
    if steps.is_empty() {
        return;
    }
    let row = |step: &RosterStep| {
        let act = match step.act {
            RosterAct::New => "new",
            RosterAct::Change => "change",
        };
        vec![step.line.to_string(), act.into(), step.about.clone(), step.name.clone(), step.says.clone()]
    };
    ui.table(&["line", "", "what", "name", "how"], steps.iter().map(row).collect(), &[0], "");
}

fn faulty(plan: &RosterPlan) -> Failure {
    let what = format!("The roster has {}; nothing was changed.", many(plan.faults.len() as u64, "fault"));
    Failure::here(what, "Put them right and bring it in again.")
}

fn say_done(done: &RosterDone, steps_too: bool, on_sheet: bool, ui: &Ui) {
    if done.steps.is_empty() {
        return ui.line(&format!("Nothing to do: all {} are so already.", many(done.unchanged, "line")));
    }
    if steps_too {
        say_steps(&done.steps, ui);
    }
    ui.line(&format!("{} done.", many(done.steps.len() as u64, "change")));
    if !done.codes.is_empty() && !on_sheet {
        ui.line("");
        say_all_issued(&done.codes, ui);
        ui.line("The codes are not shown again. For hand-outs:  jetfrost enrolment renew --all-waiting --hand-outs FILE");
    }
}
