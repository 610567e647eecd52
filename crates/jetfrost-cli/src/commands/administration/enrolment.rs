//! `jetfrost enrolment`: codes that turn machines into workstations.

use std::path::PathBuf;

use clap::Subcommand;
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::calls;
use jetfrost_wire::enrolment::{CodeLimit, CodeState, EnrolmentCode, IssuedCode, NewEnrolmentCode};

use crate::commands::administration::hand_out::{Sheet, hand_out_to};
use crate::commands::labels;
use crate::commands::limit::parse_limit;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Enrolment {
    /// Lists enrolment codes, without the codes themselves.
    List,
    /// Makes an enrolment code for an account.
    Add {
        /// Login name of the account that owns the machine.
        login: String,
        /// Destination of the image store; needed only if there are several.
        #[arg(long)]
        destination: Option<String>,
        /// Name of the workstation, whatever the machine calls itself.
        #[arg(long, value_name = "NAME", conflicts_with = "claims")]
        machine: Option<String>,
        /// Limit of the image store, such as 1.5TB, or 'none' [default: that of group or destination].
        #[arg(long, value_name = "SIZE", conflicts_with = "claims", value_parser = parse_limit)]
        limit: Option<Limit>,
        /// Make an unencrypted image store, if the destination allows it.
        #[arg(long, conflicts_with = "claims")]
        without_encryption: bool,
        /// Hours until the code ends, 1 to 720.
        #[arg(long, default_value_t = 48)]
        hours: u16,
        /// Hand an existing workstation of this account, with its image store, to the machine instead of making a new one.
        #[arg(long, value_name = "WORKSTATION", conflicts_with = "destination")]
        claims: Option<String>,
        /// Write a hand-out for the person at the machine to a new file: PDF if its name ends so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_out: Option<PathBuf>,
    },
    /// Reissues unused and expired codes, for example when hand-outs were lost. The old codes stop working.
    Renew {
        /// Ids of codes, or names of the machines that they are for.
        #[arg(required_unless_present = "all_unused")]
        codes: Vec<String>,
        /// All unused codes.
        #[arg(long, conflicts_with = "codes")]
        all_unused: bool,
        /// Write hand-outs to a new file, a page each: PDF if its name ends so, else HTML.
        #[arg(long, value_name = "FILE")]
        hand_outs: Option<PathBuf>,
    },
    /// Cancels an unused enrolment code.
    Cancel {
        /// Its id, from the list.
        id: String,
    },
}

impl Enrolment {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::List => {
                let codes: Vec<EnrolmentCode> = api.all(&calls::enrolment_codes())?;
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
                let issued: IssuedCode = api.call_with(&calls::issue_code(), &new)?;
                ui.show(&issued, |issued| say_issued(issued, ui));
                hand_out_to(sheet, &api, std::slice::from_ref(&issued), ui)?;
            }
            Self::Renew { codes, all_unused, hand_outs } => return renew(&codes, all_unused, hand_outs, &api, ui),
            Self::Cancel { id } => {
                api.call(&calls::cancel_code(&id))?;
                ui.line("The code was cancelled.");
            }
        }
        Ok(Code::Done)
    }
}

fn say_codes(codes: &[EnrolmentCode], ui: &Ui) {
    let row = |c: &EnrolmentCode| {
        let machine = c.workstation.clone().or(c.machine.clone()).or(c.claims.clone()).unwrap_or_default();
        let state = labels::code(c.state).to_owned();
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

fn renew(which: &[String], all_unused: bool, hand_outs: Option<PathBuf>, api: &Api, ui: &Ui) -> Done {
    let known: Vec<EnrolmentCode> = api.all(&calls::enrolment_codes())?;
    let renewable = |code: &&EnrolmentCode| matches!(code.state, CodeState::Unused | CodeState::Expired);
    let mut chosen: Vec<&EnrolmentCode> = Vec::new();
    if all_unused {
        chosen.extend(known.iter().filter(renewable).filter(|code| code.machine.is_some()));
    }
    for wanted in which {
        let is_it = |code: &&EnrolmentCode| {
            code.id.0 == *wanted || code.machine.as_ref().is_some_and(|name| name.to_lowercase() == wanted.to_lowercase())
        };
        let found = known.iter().filter(renewable).find(is_it);
        chosen.push(found.ok_or_else(|| {
            Failure::here(format!("No unused or expired code is '{wanted}' or for it."), "See 'jetfrost enrolment list'.")
        })?);
    }
    let sheet = hand_outs.map(Sheet::reserve).transpose()?;
    let renew = |code: &&EnrolmentCode| api.call(&calls::renew_code(&code.id));
    let issued: Vec<IssuedCode> = chosen.iter().map(renew).collect::<Result<_, _>>()?;
    ui.show(&issued, |issued| say_all_issued(issued, ui));
    hand_out_to(sheet, api, &issued, ui)?;
    Ok(Code::Done)
}

pub(crate) fn say_all_issued(issued: &[IssuedCode], ui: &Ui) {
    let row = |one: &IssuedCode| {
        let record = &one.record;
        vec![record.machine.clone().unwrap_or_default(), record.login.clone(), moment(record.expires), one.code.clone()]
    };
    ui.table(&["machine", "for", "until", "code"], issued.iter().map(row).collect(), &[], "No code was made.");
}
