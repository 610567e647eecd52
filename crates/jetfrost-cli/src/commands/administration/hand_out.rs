//! Files for hand-outs.

use std::fs;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::PathBuf;

use jetfrost_client::api::Api;
use jetfrost_platform::Opening;
use jetfrost_wire::calls;
use jetfrost_wire::enrolment::IssuedCode;
use jetfrost_wire::roster::{AskHandOuts, HandOutForm};

use crate::failure::Failure;
use crate::ui::{Ui, many};

/// A file for hand-outs, made before the codes, so that no code is lost because the file cannot be written.
pub(crate) struct Sheet {
    path: PathBuf,
    file: fs::File,
}

impl Sheet {
    pub(crate) fn reserve(path: PathBuf) -> Result<Self, Failure> {
        // The codes in it are for the people that they are handed to.
        let file = OpenOptions::new().write(true).create_new(true).private().open(&path).map_err(|e| {
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
pub(crate) fn hand_out_to(sheet: Option<Sheet>, api: &Api, issued: &[IssuedCode], ui: &Ui) -> Result<(), Failure> {
    let Some(mut sheet) = sheet else { return Ok(()) };
    if issued.is_empty() {
        drop(fs::remove_file(&sheet.path));
        return Ok(());
    }
    let ask = AskHandOuts { codes: issued.iter().map(|one| one.code.clone()).collect(), form: sheet.form() };
    api.download_with(&calls::hand_outs(), &ask, &mut sheet.file)?;
    sheet.file.flush().and_then(|()| sheet.file.sync_all()).map_err(|e| {
        Failure::here(
            format!("{} cannot be written: {e}.", sheet.path.display()),
            "The codes are good: jetfrost enrolment renew --hand-outs FILE",
        )
    })?;
    ui.remark(&format!("{} in {}.", many(issued.len() as u64, "hand-out"), sheet.path.display()));
    Ok(())
}
