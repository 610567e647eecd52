//! Signing in and out, and the first administrator.

use std::collections::HashMap;
use std::sync::PoisonError;

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::random_array;
use jetfrost_office::names;
use jetfrost_office::patience::Failures;
use jetfrost_wire::SessionId;
use jetfrost_wire::people::{Account, AccountKind, Role};
use jetfrost_wire::service::{Carry, FirstAdministrator, ServiceInfo, SignIn, SignedIn, TokenScope};

use super::people::{check_password, insert_account};
use super::sessions::{COOKIE, TOKEN, scope_word};
use super::{DAY_MS, Desk, DeskError, Result, checked_name, convert};
use crate::clock::timestamp;
use crate::records::{AccountRow, SessionRow, first_code_hash, insert_installation, installation_id, set_first_code_hash};
use crate::secrets::{SecretKind, hash, hash_password, is_password, new_id, new_secret};

/// A browser's session ends after so long, however much it is used.
const COOKIE_MS: i64 = 7 * DAY_MS;
/// A command's session.
const TOKEN_MS: i64 = 90 * DAY_MS;
/// Names and addresses whose failures are remembered.
const MOST_REMEMBERED: usize = 10_000;

/// Failed sign-ins, by account name and by address.
#[derive(Default)]
pub(super) struct Attempts(HashMap<String, Failures>);

impl Attempts {
    fn wait_ms(&self, keys: &[String; 2], now: i64) -> i64 {
        keys.iter().filter_map(|key| self.0.get(key)).map(|f| f.wait_ms(now)).max().unwrap_or(0)
    }

    fn failed(&mut self, keys: &[String; 2], now: i64) {
        if self.0.len() > MOST_REMEMBERED {
            self.0.retain(|_, f| !f.is_forgotten(now));
        }
        for key in keys {
            let failures = self.0.entry(key.clone()).or_default();
            *failures = failures.and_one_more(now);
        }
    }

    fn succeeded(&mut self, keys: &[String; 2]) {
        self.0.remove(&keys[0]);
    }
}

/// The installation's id; made the first time.
pub(crate) fn installation(
    records: &crate::records::Records,
    random: &dyn jetfrost_image::crypto::Random,
    now: i64,
) -> Result<String> {
    records.write(|on| {
        if let Some(id) = installation_id(on)? {
            return Ok(id);
        }
        let id = new_id(random);
        insert_installation(&id, now, on)?;
        Ok(id)
    })
}

impl Desk {
    /// What anyone may know.
    pub(crate) fn service_info(&self) -> Result<ServiceInfo> {
        Ok(ServiceInfo {
            id: jetfrost_wire::ServiceId(self.identity.service.clone()),
            public_name: self.identity.public_name.clone(),
            version: env!("CARGO_PKG_VERSION").into(),
            fingerprint: self.identity.fingerprint_text.clone(),
            awaits_first_administrator: !self.has_administrator()?,
            now: timestamp(self.now()),
            escrow: self.escrow()?,
        })
    }

    pub(crate) fn has_administrator(&self) -> Result<bool> {
        self.records.read(|on| Ok(AccountRow::any_with_role(Role::Administrator.word(), on)?))
    }

    /// Makes a new one-time code for the first administrator; earlier ones are void.
    pub(crate) fn new_first_code(&self) -> Result<String> {
        let symbols = BASE32_NOPAD.encode(&random_array::<10>(&*self.random));
        let code = symbols.as_bytes().chunks(4).map(|c| String::from_utf8_lossy(c)).collect::<Vec<_>>().join("-");
        self.records.write(|on| {
            if AccountRow::any_with_role(Role::Administrator.word(), on)? {
                return Err(DeskError::Conflict("there is an administrator already"));
            }
            Ok(set_first_code_hash(Some(&first_code_key(&code)), on)?)
        })?;
        Ok(code)
    }

    /// Creates the first administrator and signs in.
    pub(crate) fn first_administrator(&self, new: &FirstAdministrator, origin: &str) -> Result<Account> {
        let login = checked_name(&new.login)?;
        check_password(&new.password)?;
        let keys = ["first administrator".to_owned(), origin.to_owned()];
        self.check_patience(&keys)?;
        let row = AccountRow {
            id: new_id(&*self.random),
            login_key: names::key(&login),
            display_name: login.clone(),
            login,
            role: Role::Administrator.word().into(),
            password: Some(hash_password(&new.password, &*self.random)),
            created: self.now(),
            kind: AccountKind::Person.word().into(),
            ..AccountRow::default()
        };
        let made = self.records.write(|on| {
            if AccountRow::any_with_role(Role::Administrator.word(), on)? {
                return Err(DeskError::Conflict("there is an administrator already"));
            }
            if first_code_hash(on)? != Some(first_code_key(&new.code)) {
                return Err(DeskError::WrongCode("this is not the code that the service printed last"));
            }
            set_first_code_hash(None, on)?;
            insert_account(&row, on)?;
            self.audit_as(&row.login, origin, "first administrator created", &row.login, on)?;
            convert::account(&row, on)
        });
        if matches!(made, Err(DeskError::WrongCode(_))) {
            self.lock_attempts().failed(&keys, self.now());
        }
        made
    }

    /// Signs a person in. Whether the name exists makes no difference to what is said, nor to how long it takes.
    pub(crate) fn sign_in(&self, with: &SignIn, origin: &str) -> Result<SignedIn> {
        let key = names::key(&with.login);
        let keys = [format!("account {key}"), format!("address {origin}")];
        self.check_patience(&keys)?;
        let found = self.records.read(|on| Ok::<_, DeskError>(AccountRow::by_key(&key, on)?))?;
        let right = is_password(&with.password, found.as_ref().and_then(|a| a.password.as_deref()));
        let refused = |what: &str, error: DeskError| {
            self.lock_attempts().failed(&keys, self.now());
            self.audit_refusal("unknown", origin, what, &key)?;
            Err(error)
        };
        let Some(account) = found.filter(|account| right && account.disabled.is_none()) else {
            return refused("sign-in refused", DeskError::WrongPassword);
        };
        match self.check_second_factor(&account, with.code.as_deref()) {
            Err(DeskError::WrongSecondFactor) => refused("second factor refused", DeskError::WrongSecondFactor),
            Err(other) => Err(other),
            Ok(()) => {
                self.lock_attempts().succeeded(&keys);
                self.begin_session(&account, with, origin)
            }
        }
    }

    fn begin_session(&self, account: &AccountRow, with: &SignIn, origin: &str) -> Result<SignedIn> {
        let now = self.now();
        let secret = new_secret(SecretKind::Session, &*self.random);
        let (carry, lasts) = match with.carry {
            Carry::Cookie => (COOKIE, COOKIE_MS),
            Carry::Token => (TOKEN, TOKEN_MS),
        };
        let session = SessionRow {
            id: new_id(&*self.random),
            secret_hash: hash(secret.as_bytes()),
            account_id: account.id.clone(),
            carry: carry.into(),
            label: with.label.clone().unwrap_or_default().chars().take(64).collect(),
            created: now,
            last_used: now,
            expires: now + lasts,
            scope: scope_word(TokenScope::All).into(),
            origin: origin.to_owned(),
        };
        let account = self.records.write(|on| {
            SessionRow::remove_expired(now, on)?;
            session.insert(on)?;
            self.audit_as(&account.login, origin, "signed in", &session.label, on)?;
            convert::account(account, on)
        })?;
        Ok(SignedIn { session: SessionId(session.id), account, token: Some(secret), expires: timestamp(session.expires) })
    }

    fn check_patience(&self, keys: &[String; 2]) -> Result<()> {
        match self.lock_attempts().wait_ms(keys, self.now()) {
            0 => Ok(()),
            ms => Err(DeskError::TooManyAttempts { wait_seconds: convert::from_db(ms).div_ceil(1000) }),
        }
    }

    pub(super) fn guess_failed(&self, what: &str, origin: &str) {
        self.lock_attempts().failed(&[format!("{what} {origin}"), format!("address {origin}")], self.now());
    }

    pub(super) fn check_guesses(&self, what: &str, origin: &str) -> Result<()> {
        self.check_patience(&[format!("{what} {origin}"), format!("address {origin}")])
    }

    fn lock_attempts(&self) -> std::sync::MutexGuard<'_, Attempts> {
        self.attempts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn first_code_key(code: &str) -> Vec<u8> {
    let compact: String = code.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_uppercase();
    hash(compact.as_bytes())
}
