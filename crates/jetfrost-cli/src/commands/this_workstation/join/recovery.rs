//! The recovery key on its way from this program to a person.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use jetfrost_client::RecoveryKey;
use jetfrost_platform::Opening;

use crate::failure::Failure;
use crate::ui::Ui;

/// A person may mistype it so often before the program goes on.
const TRIES: u8 = 3;

/// Where the recovery key goes: to the screen, or to a file that is made before the key is.
pub(super) struct Recovery(Option<(PathBuf, File)>);

impl Recovery {
    /// Makes the file, which must be new, so that nothing is lost once there is a key.
    pub(super) fn begin(file: Option<&Path>) -> Result<Self, Failure> {
        let Some(path) = file else { return Ok(Self(None)) };
        let made = OpenOptions::new().write(true).create_new(true).private().open(path);
        let made = made.map_err(|e| {
            Failure::here(
                format!("{} cannot be made for the recovery key: {e}.", path.display()),
                "Give the name of a file that is not there yet.",
            )
        })?;
        Ok(Self(Some((path.to_owned(), made))))
    }

    /// No key came to be.
    pub(super) fn take_back(self) {
        if let Some((path, _)) = self.0 {
            // An empty file harms nobody.
            let _ = fs::remove_file(path);
        }
    }

    /// Hands the key over. One that cannot be written is shown: nobody makes it again. Says whether it was shown.
    pub(super) fn hand_over(self, key: &RecoveryKey, with_office_key: bool, ui: &Ui) -> bool {
        if let Some((path, mut file)) = self.0 {
            match writeln!(file, "{key}").and_then(|()| file.sync_all()) {
                Ok(()) => {
                    ui.say(&format!("The recovery key is in {}. Move it away from this machine.", path.display()));
                    return false;
                }
                Err(error) => {
                    ui.remark(&format!("{} could not be written ({error}); the recovery key is shown instead.", path.display()));
                }
            }
        }
        ui.say("");
        ui.say("  Recovery key, shown this once:");
        ui.say(&format!("  {key}"));
        ui.say("");
        ui.say("Print it and keep it away from this machine. Without it and without the image passphrase nobody,");
        ui.say(if with_office_key {
            "but for whoever holds the office key, can read these backups."
        } else {
            "the office included, can read these backups."
        });
        if ui.is_terminal() {
            confirm(key, ui);
        }
        true
    }
}

/// Has the person type a part of the key, who then has looked at it for long enough to write it down.
fn confirm(key: &RecoveryKey, ui: &Ui) {
    let text = key.to_string();
    let last = text.rsplit('-').next().unwrap_or_default();
    for _ in 0..TRIES {
        let Ok(typed) = ui.ask("Type the last four characters of the recovery key, from your copy") else { return };
        if typed.eq_ignore_ascii_case(last) {
            return;
        }
        ui.remark("That is not what it ends with. Compare your copy with the key above.");
    }
    ui.remark("Make a new recovery key once you can keep it:  jetfrost unlock-method renew-recovery-key");
}
