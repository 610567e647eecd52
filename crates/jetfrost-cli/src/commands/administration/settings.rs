//! `jetfrost settings`: what is set for the whole office.

use clap::{Args, Subcommand};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::service::{OfficeSettings, RunsAtOnce};
use jetfrost_wire::size::Units;

use crate::commands::YesOrNo;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Settings {
    /// Shows the settings of the office.
    Show,
    /// Changes settings for everybody, at once.
    Set(Change),
}

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct Change {
    /// Units of sizes: decimal (GB) or binary (GiB).
    #[arg(long, value_parser = units)]
    units: Option<Units>,
    /// How many backups run at once, or 'measured' for as many as the measured rate allows, 16 at most.
    #[arg(long, value_name = "NUMBER", value_parser = at_once)]
    runs_at_once: Option<AtOnce>,
    /// Whether people may enrol their own machines by signing in, without a code from an administrator: five each at most.
    #[arg(long, value_name = "YES|NO")]
    own_machines: Option<YesOrNo>,
}

#[derive(Debug, Clone, Copy)]
enum AtOnce {
    Measured,
    Number(RunsAtOnce),
}

fn at_once(text: &str) -> Result<AtOnce, String> {
    if text == "measured" {
        return Ok(AtOnce::Measured);
    }
    let number: u32 = text.parse().map_err(|_| "it is a number, or 'measured'")?;
    RunsAtOnce::try_from(number).map(AtOnce::Number).map_err(|e| e.to_string())
}

fn units(text: &str) -> Result<Units, String> {
    Units::from_word(text).ok_or_else(|| "it is 'decimal' or 'binary'".into())
}

impl Settings {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let settings: OfficeSettings = match self {
            Self::Show => api.call(&calls::settings())?,
            Self::Set(change) => {
                let now: OfficeSettings = api.call(&calls::settings())?;
                let runs_at_once = match change.runs_at_once {
                    None => now.runs_at_once,
                    Some(AtOnce::Measured) => None,
                    Some(AtOnce::Number(number)) => Some(number),
                };
                let own_machines = change.own_machines.map_or(now.own_machines, |answer| matches!(answer, YesOrNo::Yes));
                let to = OfficeSettings { units: change.units.unwrap_or(now.units), runs_at_once, own_machines };
                api.call_with(&calls::set_settings(), &to)?
            }
        };
        ui.show(&settings, |settings| {
            ui.line(match settings.units {
                Units::Decimal => "Sizes are shown in decimal units: 1 GB is 1,000,000,000 bytes. Both kinds are understood.",
                Units::Binary => "Sizes are shown in binary units: 1 GiB is 1,073,741,824 bytes. Both kinds are understood.",
            });
            ui.line(&match settings.runs_at_once {
                None => "As many backups run at once as the measured rate allows, 16 at most.".to_owned(),
                Some(number) => format!("At most {} at once.", many(u32::from(number).into(), "backup")),
            });
            ui.line(if settings.own_machines {
                "People may enrol their own machines by signing in: jetfrost join --sign-in LOGIN"
            } else {
                "Machines are enrolled with codes from an administrator."
            });
        });
        Ok(Code::Done)
    }
}
