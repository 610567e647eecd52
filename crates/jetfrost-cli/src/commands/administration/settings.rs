//! `jetfrost settings`: what is set for the whole office.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::service::OfficeSettings;
use jetfrost_wire::size::Units;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Settings {
    /// Shows the settings of the office.
    Show,
    /// Changes the setting for everybody, at once.
    Set {
        /// Units of sizes: decimal (GB) or binary (GiB).
        #[arg(long, value_parser = units)]
        units: Units,
    },
}

fn units(text: &str) -> Result<Units, String> {
    Units::from_word(text).ok_or_else(|| "it is 'decimal' or 'binary'".into())
}

impl Settings {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let settings: OfficeSettings = match self {
            Self::Show => api.call(&calls::settings())?,
            Self::Set { units } => api.call_with(&calls::set_settings(), &OfficeSettings { units })?,
        };
        ui.show(&settings, |settings| {
            ui.line(match settings.units {
                Units::Decimal => "Sizes are shown in decimal units: 1 GB is 1,000,000,000 bytes. Both kinds are understood.",
                Units::Binary => "Sizes are shown in binary units: 1 GiB is 1,073,741,824 bytes. Both kinds are understood.",
            });
        });
        Ok(Code::Done)
    }
}
