//! Hand-outs for enrolment codes. A code is known only while it is shown: whoever asks for its hand-out gives it back.

use jetfrost_office::access::Act;
use jetfrost_wire::enrolment::Invitation;
use jetfrost_wire::roster::{AskHandOuts, HandOutForm};

use crate::backups::Backups;
use crate::clock::timestamp;
use crate::hand_out::{HandOut, html, pdf};
use crate::records::{AccountRow, CodeRow, CodeWithNames};
use crate::secrets::hash;
use crate::shared::{Caller, Invalid, Result, ServiceError, bounds, convert};

impl Backups {
    /// A file with a page for each code.
    pub(crate) fn hand_outs(&self, caller: &Caller, ask: &AskHandOuts) -> Result<Vec<u8>> {
        caller.may(&Act::ChangeOffice)?;
        if ask.codes.is_empty() || ask.codes.len() > bounds::HAND_OUTS {
            return Err(Invalid::HandOutCodes.into());
        }
        let pages: Vec<HandOut> = ask.codes.iter().map(|code| self.hand_out(code)).collect::<Result<_>>()?;
        match ask.form {
            HandOutForm::Html => Ok(html::render(&pages, &self.zone).into_bytes()),
            HandOutForm::Pdf => Ok(pdf::render(&pages, &self.zone).map_err(Invalid::from)?),
        }
    }

    fn hand_out(&self, text: &str) -> Result<HandOut> {
        let invitation = Invitation::parse(text).map_err(Invalid::from)?;
        let (now, programs) = (self.clock.now(), self.installation.downloads.list()?);
        self.records.read(|on| {
            let not_open = || ServiceError::from(Invalid::CodeNotUsable);
            let code = CodeRow::by_secret(&hash(&invitation.secret), on)?.ok_or_else(not_open)?;
            let row = CodeWithNames::by_id(&code.id, on)?.ok_or_else(not_open)?;
            if convert::enrolment_code(&row, now).state != jetfrost_wire::enrolment::CodeState::Unused {
                return Err(not_open());
            }
            let account = AccountRow::by_id(&code.account_id, on)?.ok_or_else(not_open)?;
            Ok(HandOut {
                machine: code.machine.clone(),
                person: account.display_name,
                login: account.login,
                address: invitation.address.clone(),
                announced_as: self.announcer.name(),
                fingerprint: invitation.fingerprint_text(),
                destination: row.destination,
                code: invitation.to_text(),
                expires: timestamp(code.expires),
                encrypted: code.encrypted,
                claims: row.claims,
                programs,
            })
        })
    }
}
