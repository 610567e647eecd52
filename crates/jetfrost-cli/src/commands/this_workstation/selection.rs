//! `jetfrost include`, `exclude` and `selection`: what is backed up.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::state_dir::StateDir;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Include {
    /// Folders or files.
    #[arg(required = true)]
    folders: Vec<PathBuf>,
    /// The paths are disks: block devices or raw image files, backed up whole.
    #[arg(long, conflicts_with = "drop")]
    disk: bool,
    /// Remove them from the selection. Existing points keep them.
    #[arg(long)]
    drop: bool,
}

impl Include {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut selection = state_dir.selection()?;
        for folder in &self.folders {
            if self.disk {
                selection.include_disk(folder)?;
            } else if !self.drop {
                let kept = selection.include(folder)?;
                if kept != std::path::absolute(folder).unwrap_or_default() {
                    ui.remark(&format!("{} leads to {}, and that is what is included.", folder.display(), kept.display()));
                }
            } else if !selection.drop_folder(folder) {
                return Err(Failure::here(format!("{} is not included.", folder.display()), "See 'jetfrost selection'."));
            }
        }
        state_dir.write_selection(&selection)?;
        self::selection(state_dir, ui)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Exclude {
    /// Patterns: without '/' a name at any depth ('*.tmp', 'node_modules'), with '/' a path ('/home/*/Downloads'); '**'
    /// stands for any number of folders.
    #[arg(required = true)]
    patterns: Vec<String>,
    /// Remove the patterns.
    #[arg(long)]
    drop: bool,
}

impl Exclude {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut selection = state_dir.selection()?;
        for pattern in &self.patterns {
            if !self.drop {
                selection.exclude(pattern)?;
            } else if !selection.drop_pattern(pattern) {
                return Err(Failure::here(format!("'{pattern}' is not among the patterns."), "See 'jetfrost selection'."));
            }
        }
        state_dir.write_selection(&selection)?;
        self::selection(state_dir, ui)
    }
}

pub(crate) fn selection(state_dir: &StateDir, ui: &Ui) -> Done {
    let selection = state_dir.selection()?;
    ui.show(&selection, |selection| {
        if selection.kinds().is_empty() {
            ui.line("Nothing is included yet. Next: jetfrost include FOLDER");
        }
        for folder in &selection.folders {
            ui.line(&format!("include  {}", folder.0.display()));
        }
        for disk in &selection.disks {
            ui.line(&format!("disk     {}", disk.0.display()));
        }
        for pattern in &selection.exclude {
            ui.line(&format!("exclude  {pattern}"));
        }
    });
    Ok(Code::Done)
}
