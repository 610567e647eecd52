//! `jetfrost attach`: a disk of a point, served to standard tools.

use std::path::PathBuf;
use std::sync::Arc;

use clap::Args;
use jetfrost_client::attach::{Listen, attach};
use jetfrost_client::browse::At;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use serde_json::json;

use crate::commands::getting_back::disks::{as_bytes, of_point};
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::interrupt::ended_by_key;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Attach {
    /// Path of the disk when it was backed up; needed only if the point holds several.
    disk: Option<PathBuf>,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// The Unix socket to make; only this user can open it.
    #[arg(long, value_name = "PATH", default_value = "jetfrost-disk.socket", conflicts_with = "port")]
    socket: PathBuf,
    /// Listen on a loopback TCP port instead of a socket. Every user of this machine can read from it. 0 picks a free port.
    #[arg(long)]
    port: Option<u16>,
    #[command(flatten)]
    from: ReadFrom,
}

impl Attach {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Disk)?;
        let (disk, image) = browser.disk(&point, as_bytes(self.disk.as_deref()))?;
        let listen = match self.port {
            Some(port) => Listen::Port(port),
            None => Listen::Socket(std::path::absolute(&self.socket).unwrap_or(self.socket)),
        };
        let meter = ended_by_key();
        let bytes = image.len();
        let say = |address: &str| {
            ui.show(&json!({ "address": address, "bytes": bytes }), |_| {
                let size = show(bytes);
                ui.line(&format!("{} of {}, {size}, is attached for reading at", shown_path(&disk.path), of_point(&point)));
                ui.line(&format!("  {address}"));
                ui.line("until this command is interrupted. To look at it, in another terminal:");
                ui.line(&format!("  nbdinfo '{address}'"));
                ui.line(&format!("  nbdcopy --progress '{address}' disk.raw"));
            });
        };
        let progress = attach(&browser, &point, (&disk, Arc::new(image)), &listen, &meter, say)?;
        ui.remark(&format!("No longer attached; {} were read.", show(progress.bytes_done)));
        Ok(Code::Done)
    }
}
