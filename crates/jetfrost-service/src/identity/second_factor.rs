//! The second factor: codes from an authenticator (TOTP, RFC 6238), and spare codes for when it is lost.

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::random_array;
use jetfrost_office::access::Act;
use jetfrost_types::AccountId;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::Account;
use jetfrost_wire::service::{ConfirmSecondFactor, EndSecondFactor, SecondFactorOffer, SpareCodes};
use qrcode::QrCode;
use qrcode::render::svg;
use totp_rs::Builder;

use crate::identity::Identity;
use crate::records::{AccountRow, Connection, Count};
use crate::secrets::hash;
use crate::shared::{Caller, Conflict, Result, ServiceError, Thing, convert};

/// RFC 4226, section 4: 160 bits.
const SECRET: usize = 20;

const SPARE_CODES: usize = 10;

impl Identity {
    /// Makes a new secret for the caller's authenticator. It counts once a code from it was confirmed.
    pub(crate) fn offer_second_factor(&self, caller: &Caller) -> Result<SecondFactorOffer> {
        let (account, _) = caller.own_account(&Act::ChangeSelf)?;
        if account.totp_since.is_some() {
            return Err(ServiceError::Conflict(Conflict::HasSecondFactor));
        }
        let secret = random_array::<SECRET>(&*self.random);
        self.records.write(|on| {
            let mut row = AccountRow::by_id(&account.id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            row.totp = Some(secret.to_vec());
            Ok::<_, ServiceError>(row.update(on)?)
        })?;
        let text = BASE32_NOPAD.encode(&secret);
        let address = self.authenticator_address(&account.login, &text);
        let picture = picture(&address);
        Ok(SecondFactorOffer { secret: text, address, picture })
    }

    fn authenticator_address(&self, login: &str, secret: &str) -> String {
        let escape = |text: &str| text.bytes().map(escaped).collect::<String>();
        let (issuer, login) = (escape(&format!("Jetfrost {}", self.installation.public_name)), escape(login));
        format!("otpauth://totp/{issuer}:{login}?secret={secret}&issuer={issuer}&algorithm=SHA1&digits=6&period=30")
    }

    /// Shows that the authenticator is set up; from now on signing in takes its code.
    pub(crate) fn confirm_second_factor(&self, caller: &Caller, with: &ConfirmSecondFactor) -> Result<SpareCodes> {
        let (account, _) = caller.own_account(&Act::ChangeSelf)?;
        self.check_own_password(account, &with.password, &caller.origin)?;
        let codes: Vec<String> = (0..SPARE_CODES).map(|_| self.spare_code()).collect();
        self.records.write(|on| {
            let mut row = AccountRow::by_id(&account.id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            if row.totp_since.is_some() {
                return Err(ServiceError::Conflict(Conflict::HasSecondFactor));
            }
            let step = self.step_of(&row, &with.code).ok_or(ServiceError::WrongSecondFactor)?;
            row.totp_step = step;
            row.totp_since = Some(self.clock.now());
            row.update(on)?;
            row.set_spare_codes(&codes.iter().map(|code| spare_key(code)).collect::<Vec<_>>(), on)?;
            self.trail.note(caller, "second factor added", &row.login, on)
        })?;
        self.events.tell(Event::Office);
        Ok(SpareCodes { codes })
    }

    fn spare_code(&self) -> String {
        let symbols = BASE32_NOPAD.encode(&random_array::<5>(&*self.random));
        format!("{}-{}", &symbols[..4], &symbols[4..])
    }

    /// Ends the caller's own second factor.
    pub(crate) fn end_second_factor(&self, caller: &Caller, with: &EndSecondFactor) -> Result<Account> {
        let (account, _) = caller.own_account(&Act::ChangeSelf)?;
        self.check_own_password(account, &with.password, &caller.origin)?;
        self.take_second_factor(caller, &account.id)
    }

    /// Ends the second factor of somebody who lost it.
    pub(crate) fn end_second_factor_of(&self, caller: &Caller, id: &AccountId) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        self.take_second_factor(caller, id)
    }

    fn take_second_factor(&self, caller: &Caller, id: &AccountId) -> Result<Account> {
        let account = self.records.write(|on| {
            let mut row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            (row.totp, row.totp_since) = (None, None);
            row.update(on)?;
            row.set_spare_codes(&[], on)?;
            self.trail.note(caller, "second factor taken away", &row.login, on)?;
            convert::account(&row, on)
        })?;
        self.events.tell(Event::Office);
        Ok(account)
    }

    /// Checks the second factor of somebody whose password was right, and uses the code up.
    pub(crate) fn check_second_factor(&self, account: &AccountRow, code: Option<&str>) -> Result<()> {
        if account.totp_since.is_none() {
            return Ok(());
        }
        let code = code.filter(|code| !code.trim().is_empty()).ok_or(ServiceError::SecondFactorNeeded)?;
        self.records.write(|on| {
            let mut row = AccountRow::by_id(&account.id, on)?.ok_or(ServiceError::NotSignedIn)?;
            if let Some(step) = self.step_of(&row, code) {
                row.totp_step = step;
                return Ok(row.update(on)?);
            }
            self.use_spare_code(&row, code, on)
        })
    }

    fn use_spare_code(&self, row: &AccountRow, code: &str, on: &mut Connection) -> Result<()> {
        if !row.use_spare_code(&spare_key(code), on)? {
            return Err(ServiceError::WrongSecondFactor);
        }
        let left = row.spare_codes(on)?.get();
        self.trail.note_as(&row.login, "", "spare code used", &format!("{left} are left"), on)
    }

    /// The time step of which this is the code, if it is one that was not used before.
    fn step_of(&self, row: &AccountRow, code: &str) -> Option<Count> {
        let compact: String = code.chars().filter(|c| !c.is_whitespace()).collect();
        // SHA-1, six digits, 30 seconds, one step of skew: as authenticators expect it.
        let totp = Builder::new().with_secret(row.totp.clone()?).build().ok()?;
        let step = totp.check(&compact, self.clock.now_ms().unsigned_abs() / 1000)?;
        Count::new(step).filter(|step| *step > row.totp_step)
    }
}

fn spare_key(code: &str) -> Vec<u8> {
    let compact: String = code.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_uppercase();
    hash(compact.as_bytes())
}

/// A byte of a URI's component (RFC 3986, section 2.3).
fn escaped(byte: u8) -> String {
    if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }
}

/// A QR code (ISO/IEC 18004) as SVG.
pub(crate) fn picture(text: &str) -> String {
    QrCode::new(text).map_or_else(|_| String::new(), |code| code.render::<svg::Color<'_>>().min_dimensions(220, 220).build())
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::service::{Carry, SignIn};

    use super::*;
    use crate::shared::testing::{Office, PASSWORD, credential};

    fn signs_in(office: &Office, code: Option<&str>) -> Result<()> {
        let code = code.map(str::to_owned);
        let with = SignIn { login: "tove".into(), password: PASSWORD.into(), code, carry: Carry::Token, label: None };
        office.services.identity.sign_in(&with, "127.0.0.1").map(drop)
    }

    #[test]
    fn a_code_is_good_once_and_so_is_a_spare_one() {
        let office = Office::open();
        let tove = office.person("tove", Role::Member);
        let (totp, spare) = office.second_factor(&tove);
        assert!(matches!(signs_in(&office, None), Err(ServiceError::SecondFactorNeeded)));
        let used = office.shown_by(&totp);
        assert!(matches!(signs_in(&office, Some(&used)), Err(ServiceError::WrongSecondFactor)), "it confirmed the authenticator");
        office.pass(60_000);
        signs_in(&office, Some(&office.shown_by(&totp))).expect("the next one");
        let lost = spare.codes[3].to_lowercase();
        signs_in(&office, Some(&lost)).expect("a spare one, as people type it");
        assert!(matches!(signs_in(&office, Some(&lost)), Err(ServiceError::WrongSecondFactor)), "once");
    }

    #[test]
    fn a_session_in_the_wrong_hands_neither_replaces_nor_ends_a_second_factor() {
        let office = Office::open();
        let (identity, tove) = (&office.services.identity, office.person("tove", Role::Member));
        let session = credential(&office.services, "tove");
        office.second_factor(&tove);
        let tove = identity.authenticate(&session).expect("signed in still");
        assert!(matches!(identity.offer_second_factor(&tove), Err(ServiceError::Conflict(Conflict::HasSecondFactor))));
        let guess = EndSecondFactor { password: "a wrong guess".into() };
        assert!(matches!(identity.end_second_factor(&tove, &guess), Err(ServiceError::WrongPassword)));
        assert!(matches!(signs_in(&office, None), Err(ServiceError::SecondFactorNeeded)), "it is still asked for");
    }
}
