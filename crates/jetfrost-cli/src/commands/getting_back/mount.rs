//! `jetfrost mount`: all points as folders in a file manager.

use clap::Args;
use jetfrost_client::mount::{Address, Mounting, mount};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::{Accounts, System};
use jetfrost_wire::size::show;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::ended_by_key;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Mount {
    /// The port of this machine's loopback address; 0 picks a free one.
    #[arg(long, default_value_t = 0)]
    port: u16,
    /// An account whose programs may read as well: 'davfs2' where root mounts with davfs2.
    #[arg(long, value_name = "ACCOUNT")]
    also: Option<String>,
    #[command(flatten)]
    from: ReadFrom,
}

impl Mount {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let also = self.also.as_deref().map(account).transpose()?;
        let browser = self.from.browser(state_dir, ui)?;
        let (meter, said) = (ended_by_key(), *ui);
        let on_damage = move |path: &[u8]| said.remark(&format!("Damaged in the image store: {}", shown_path(path)));
        let how = Mounting { port: self.port, also, on_damage: Box::new(on_damage) };
        let done = mount(&browser, how, &meter, |address| say(address, self.also.as_deref(), ui))?;
        ui.remark(&format!("Unmounted; {} read.", show(done.bytes)));
        Ok(if done.damaged == 0 { Code::Done } else { Code::Damage })
    }
}

fn account(name: &str) -> Result<u32, Failure> {
    let unknown = || Failure::here(format!("There is no account '{name}' on this machine."), "Give the login name of one.");
    System::user_id(name).ok_or_else(unknown)
}

fn say(address: &Address, also: Option<&str>, ui: &Ui) {
    let Address { at, path, points } = address;
    let value = json!({ "address": format!("http://{at}{path}"), "points": points });
    ui.show(&value, |_| {
        ui.line(&format!("{}, each a folder, can be opened for reading at", many(*points as u64, "point")));
        ui.line(&format!("  dav://{at}{path}"));
        ui.line("until this command is interrupted. Open the address in a file manager, or with http:// in a browser.");
        let allowed = also.map_or_else(|| "this account and root".into(), |also| format!("this account, root and {also}"));
        ui.line(&format!("Only programs of {allowed} can read it."));
    });
}
