//! Signing in and out, and the first administrator.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::PoisonError;

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::{Random, random_array};
use jetfrost_office::login_backoff::Failures;
use jetfrost_office::names;
use jetfrost_types::ServiceId;
use jetfrost_wire::Binary;
use jetfrost_wire::people::{Account, AccountKind, Role};
use jetfrost_wire::service::{Carry, Escrow, FirstAdministrator, ServiceInfo, SignIn, SignedIn, TokenScope};

use crate::clock::{Moment, timestamp};
use crate::identity::Identity;
use crate::identity::accounts::{check_password, insert_account};
use crate::records;
use crate::records::{
    AccountRow, Id, Records, SessionRow, first_code_hash, insert_installation, installation_id, set_first_code_hash,
};
use crate::secrets::{SecretKind, hash, hash_password, is_password, new_id, new_secret};
use crate::shared::{CodeFault, Conflict, DAY_MS, Result, ServiceError, checked_name, convert};

/// A browser's session ends after so long, however much it is used.
const COOKIE_MS: i64 = 7 * DAY_MS;

/// A command's session.
const TOKEN_MS: i64 = 90 * DAY_MS;

/// No name has more bytes; what is longer is remembered and put on record no longer than this.
const MOST_LOGIN: usize = 512;

/// Names and addresses whose failures are remembered.
const MOST_REMEMBERED: usize = 10_000;

/// Guesses at secrets, by what is guessed at from a network, and by network. A guess counts before it is looked at: of many at
/// once none is free because the others are not judged yet. An owner elsewhere is not locked out by somebody's guesses here.
#[derive(Default)]
pub(crate) struct Attempts(HashMap<String, Failures>);

impl Attempts {
    /// Counts a guess, unless it comes too early; then says in milliseconds how much.
    fn begin(&mut self, keys: &[String; 2], now: Moment) -> Result<(), i64> {
        match keys.iter().filter_map(|key| self.0.get(key)).map(|f| f.wait_ms(now.ms())).max().unwrap_or(0) {
            0 => {}
            early => return Err(early),
        }
        if self.0.len() > MOST_REMEMBERED {
            self.0.retain(|_, f| !f.is_forgotten(now.ms()));
        }
        for key in keys {
            let failures = self.0.entry(key.clone()).or_default();
            *failures = failures.and_one_more(now.ms());
        }
        Ok(())
    }

    /// Takes back what was counted for a guess that was right.
    fn was_right(&mut self, keys: &[String; 2]) {
        self.was_none(keys);
        self.0.remove(&keys[0]);
    }

    fn was_none(&mut self, keys: &[String; 2]) {
        for key in keys {
            if let Some(counted) = self.0.get_mut(key) {
                *counted = counted.and_one_less();
            }
        }
    }
}

/// What guesses from an address count for: itself, or for IPv6 its network of 64 bits, of which one machine has all addresses.
fn network_of(origin: &str) -> String {
    match origin.parse::<IpAddr>() {
        Ok(IpAddr::V6(address)) if address.to_ipv4_mapped().is_none() => {
            let [a, b, c, d, ..] = address.segments();
            format!("{a:x}:{b:x}:{c:x}:{d:x}::/64")
        }
        _ => origin.to_owned(),
    }
}

fn keys_of(what: &str, origin: &str) -> [String; 2] {
    let network = network_of(origin);
    [format!("{what} from {network}"), format!("network {network}")]
}

/// The installation's id; made the first time.
pub(crate) fn installation(records: &Records, random: &dyn Random, now: Moment) -> Result<String> {
    records.write(|on| {
        if let Some(id) = installation_id(on)? {
            return Ok(id);
        }
        let ServiceId(id) = new_id(random);
        insert_installation(&id, now, on)?;
        Ok(id)
    })
}

impl Identity {
    /// What anyone may know.
    pub(crate) fn service_info(&self) -> Result<ServiceInfo> {
        Ok(ServiceInfo {
            id: ServiceId(self.installation.service.clone()),
            public_name: self.installation.public_name.clone(),
            version: env!("CARGO_PKG_VERSION").into(),
            fingerprint: self.installation.certificates.fingerprint_text(),
            awaits_first_administrator: !self.has_administrator()?,
            now: timestamp(self.clock.now()),
            escrow: self.escrow()?,
            own_machines: self.records.read(|on| Ok::<_, ServiceError>(records::own_machines(on)?))?,
        })
    }

    /// The office key that workstations are asked to trust, if any.
    pub(crate) fn escrow(&self) -> Result<Option<Escrow>> {
        let found = self.records.read(|on| Ok::<_, ServiceError>(records::escrow(on)?))?;
        Ok(found.map(|(key, since)| Escrow { public_key: Binary(key), since: timestamp(since) }))
    }

    pub(crate) fn has_administrator(&self) -> Result<bool> {
        self.records.read(|on| Ok(AccountRow::any_with_role(Role::Administrator.word(), on)?))
    }

    /// Creates the first administrator and signs in.
    pub(crate) fn first_administrator(&self, new: &FirstAdministrator, origin: &str) -> Result<Account> {
        let login = checked_name(&new.login)?;
        check_password(&new.password)?;
        self.begin_guess("first administrator", origin)?;
        let row = AccountRow {
            id: Id(new_id(&*self.random)),
            login_key: names::key(&login),
            display_name: login.clone(),
            login,
            role: Role::Administrator.into(),
            password: Some(hash_password(&new.password, &*self.random)),
            created: self.clock.now(),
            kind: AccountKind::Person.into(),
            ..AccountRow::default()
        };
        let made = self.records.write(|on| {
            if AccountRow::any_with_role(Role::Administrator.word(), on)? {
                return Err(ServiceError::Conflict(Conflict::HasAdministrator));
            }
            if first_code_hash(on)? != Some(first_code_key(&new.code)) {
                return Err(ServiceError::WrongCode(CodeFault::NotPrintedLast));
            }
            set_first_code_hash(None, on)?;
            insert_account(&row, on)?;
            self.trail.note_as(&row.login, origin, "first administrator created", &row.login, on)?;
            convert::account(&row, on)
        });
        if !matches!(made, Err(ServiceError::WrongCode(_))) {
            self.guess_was_right("first administrator", origin);
        }
        made
    }

    /// Signs a person in. Whether the name exists makes no difference to what is said, nor to how long it takes.
    pub(crate) fn sign_in(&self, with: &SignIn, origin: &str) -> Result<SignedIn> {
        let key = names::key(&with.login[..with.login.floor_char_boundary(MOST_LOGIN)]);
        let what = format!("account {key}");
        self.begin_guess(&what, origin)?;
        let found = self.records.read(|on| Ok::<_, ServiceError>(AccountRow::by_key(&key, on)?))?;
        let right = is_password(&with.password, found.as_ref().and_then(|a| a.password.as_deref()));
        let refused = |what: &str, error: ServiceError| {
            self.trail.note_refusal("unknown", origin, what, &key)?;
            Err(error)
        };
        let Some(account) = found.filter(|account| right && account.disabled.is_none()) else {
            return refused("sign-in refused", ServiceError::WrongPassword);
        };
        match self.check_second_factor(&account, with.code.as_deref()) {
            Err(ServiceError::WrongSecondFactor) => refused("second factor refused", ServiceError::WrongSecondFactor),
            Err(other) => {
                // The password was right. What was guessed of codes before still counts.
                self.guess_was_none(&what, origin);
                Err(other)
            }
            Ok(()) => {
                self.guess_was_right(&what, origin);
                self.begin_session(&account, with, origin)
            }
        }
    }

    fn begin_session(&self, account: &AccountRow, with: &SignIn, origin: &str) -> Result<SignedIn> {
        let now = self.clock.now();
        let secret = new_secret(SecretKind::Session, &*self.random);
        let lasts = match with.carry {
            Carry::Cookie => COOKIE_MS,
            Carry::Token => TOKEN_MS,
        };
        let session = SessionRow {
            id: Id(new_id(&*self.random)),
            secret_hash: hash(secret.as_bytes()),
            account_id: account.id.clone(),
            carry: with.carry.into(),
            label: with.label.clone().unwrap_or_default().chars().take(64).collect(),
            created: now,
            last_used: now,
            expires: now + lasts,
            scope: TokenScope::All.into(),
            origin: origin.to_owned(),
        };
        let account = self.records.write(|on| {
            SessionRow::remove_expired(now, on)?;
            session.insert(on)?;
            self.trail.note_as(&account.login, origin, "signed in", &session.label, on)?;
            convert::account(account, on)
        })?;
        Ok(SignedIn { session: session.id.0, account, token: Some(secret), expires: timestamp(session.expires) })
    }

    /// Counts a guess at a secret before it is looked at; refused when there were too many.
    pub(crate) fn begin_guess(&self, what: &str, origin: &str) -> Result<()> {
        let begun = self.lock_attempts().begin(&keys_of(what, origin), self.clock.now());
        begun.map_err(|early| ServiceError::TooManyAttempts { wait_seconds: early.unsigned_abs().div_ceil(1000) })
    }

    /// Takes back what was counted for a guess that was right.
    pub(crate) fn guess_was_right(&self, what: &str, origin: &str) {
        self.lock_attempts().was_right(&keys_of(what, origin));
    }

    /// Takes back one that was counted, and none before it.
    fn guess_was_none(&self, what: &str, origin: &str) {
        self.lock_attempts().was_none(&keys_of(what, origin));
    }

    fn lock_attempts(&self) -> std::sync::MutexGuard<'_, Attempts> {
        self.attempts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Makes a new one-time code for the first administrator; earlier ones are void.
pub(crate) fn new_first_code(records: &Records, random: &dyn Random) -> Result<String> {
    let symbols = BASE32_NOPAD.encode(&random_array::<10>(random));
    let code = symbols.as_bytes().chunks(4).map(|c| String::from_utf8_lossy(c)).collect::<Vec<_>>().join("-");
    records.write(|on| {
        if AccountRow::any_with_role(Role::Administrator.word(), on)? {
            return Err(ServiceError::Conflict(Conflict::HasAdministrator));
        }
        Ok(set_first_code_hash(Some(&first_code_key(&code)), on)?)
    })?;
    Ok(code)
}

fn first_code_key(code: &str) -> Vec<u8> {
    let compact: String = code.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_uppercase();
    hash(compact.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two hundred at once: four are free, and none of the others is tried.
    #[test]
    fn guesses_count_before_they_are_looked_at() {
        let mut attempts = Attempts::default();
        let keys = keys_of("account ingrid", "192.0.2.7");
        let tried = (0..200).filter(|_| attempts.begin(&keys, Moment::FIRST).is_ok()).count();
        assert_eq!(tried, 5, "the fifth is the one after which the first wait begins");
        assert!(attempts.begin(&keys_of("account ingrid", "192.0.2.8"), Moment::FIRST).is_ok(), "the owner elsewhere");
        assert!(
            attempts.begin(&keys_of("account tove", "192.0.2.7"), Moment::FIRST).is_err(),
            "another name from the same network"
        );
    }

    #[test]
    fn a_right_guess_leaves_no_trace_and_an_ipv6_network_is_one() {
        let mut attempts = Attempts::default();
        for n in 0..100 {
            let keys = keys_of("account ingrid", &format!("2001:db8::{n:x}"));
            attempts.begin(&keys, Moment::FIRST).expect("each was right");
            attempts.was_right(&keys);
        }
        assert_eq!(network_of("2001:db8::1"), network_of("2001:db8::ffff"));
        assert_ne!(network_of("2001:db8::1"), network_of("2001:db8:0:1::1"));
        assert_eq!(network_of("192.0.2.7"), "192.0.2.7");
    }
}
