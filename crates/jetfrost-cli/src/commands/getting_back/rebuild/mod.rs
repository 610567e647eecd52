//! `jetfrost rebuild`: a machine's files into an empty directory or a mounted root, or one of its disks, with a checklist at the end.

mod before;
mod disks;
mod files;
mod guide;
mod list;

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::browse::{At, Browser, OpenPoint};
use jetfrost_client::disk::Disk;
use jetfrost_client::rebuild::{Checklist, State, put_on_record};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::RestoreId;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Rebuild {
    /// Where to: for files an empty directory, or where an empty file system is mounted; for a disk a block device, whose content is
    /// overwritten, or a new image file. What was not finished there goes on. Without it, everything is asked for at the terminal.
    #[arg(long, value_name = "TARGET")]
    to: Option<PathBuf>,
    /// A disk instead of files; its path when it was backed up is needed only if the point holds several.
    #[arg(long, value_name = "PATH", num_args = 0..=1, requires = "to")]
    disk: Option<Option<PathBuf>>,
    /// The point: 'latest' (the default), 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, value_name = "POINT")]
    at: Option<At>,
    /// Show what would be done, what choosing this point loses and how long it takes; restore nothing.
    #[arg(long)]
    preview: bool,
    /// Restore nothing: check off what was rebuilt there before.
    #[arg(long, conflicts_with = "preview", requires = "to")]
    check_only: bool,
    /// Confirm without a prompt: the machine's name, or the device that is overwritten.
    #[arg(long, value_name = "NAME")]
    confirm: Option<String>,
    /// How many files of a hundred are read again at the end, 0 to 100. Everything else is always compared; a disk is read whole.
    #[arg(long, default_value_t = 10, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    read_back: u8,
    /// Write the checklist to a new file, too: .txt, .json or .html, which prints well. May be given several times.
    #[arg(long = "checklist", value_name = "FILE", value_parser = checklist_file)]
    checklists: Vec<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

fn checklist_file(text: &str) -> Result<PathBuf, String> {
    let path = PathBuf::from(text);
    match path.extension().and_then(|extension| extension.to_str()) {
        Some("txt" | "json" | "html") => Ok(path),
        _ => Err("a checklist is written as .txt, .json or .html".into()),
    }
}

/// What is to be rebuilt, and where.
struct Chosen {
    browser: Browser,
    point: OpenPoint,
    /// A disk instead of files.
    disk: Option<Disk>,
    to: PathBuf,
}

impl Rebuild {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        for file in &self.checklists {
            // Known before hours of work, and not after.
            if file.symlink_metadata().is_ok() {
                return Err(Failure::here(format!("{} is there already.", file.display()), "Name a new file for the checklist."));
            }
        }
        let Chosen { browser, point, disk, to } = guide::choose(&self, state_dir, ui)?;
        match disk {
            None => files::Files { asked: &self, browser, point, to }.run(ui),
            Some(disk) => disks::OneDisk::new(&self, browser, point, disk, to).run(ui),
        }
    }

    /// Whoever overwrites or rebuilds something types its name.
    fn confirm(&self, what: &str, name: &str, prompt: &str, ui: &Ui) -> Result<(), Failure> {
        let typed = match &self.confirm {
            Some(name) => name.clone(),
            None => ui.ask(prompt)?,
        };
        if typed == name {
            return Ok(());
        }
        let next = format!("Look whether this is the {what}; then type its name when asked, or give --confirm {name}.");
        Err(Failure::here(format!("Nothing was restored: the name of the {what} was not typed."), next))
    }

    /// Shows the checklist, writes it to where it was asked for, and puts it on record.
    fn end(&self, browser: &Browser, restore: Option<&RestoreId>, list: &Checklist, ui: &Ui) -> Done {
        if let Some(Err(error)) = restore.map(|id| put_on_record(browser, id, list)) {
            ui.remark(&format!("This checklist is not on record: {error}"));
        }
        for file in &self.checklists {
            list::write(file, list)?;
        }
        ui.show(list, |list| ui.text(&list::as_text(list)));
        for file in &self.checklists {
            ui.remark(&format!("Checklist: {}", file.display()));
        }
        Ok(if list.state() == State::Wrong { Code::WithExceptions } else { Code::Done })
    }
}
