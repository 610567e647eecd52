//! Who is signed in, with what, and how that ends.

use jetfrost_office::access::Act;
use jetfrost_wire::SessionId;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{Account, OwnPassword, PasswordSet};
use jetfrost_wire::service::{Carry, IssuedToken, NewToken, Session, SessionsEnded, TokenScope};

use crate::clock::timestamp;
use crate::identity::Identity;
use crate::identity::accounts::check_password;
use crate::records::{AccountRow, FormerCredentialRow, Id, RecordsError, SessionRow, WorkstationRow};
use crate::secrets::{SecretKind, hash, hash_password, is_password, new_id, new_secret};
use crate::shared::{
    Caller, Conflict, Credential, DAY_MS, Disabled, Invalid, Result, ServiceError, Thing, Who, bounds, checked_name, convert,
};

/// A browser's session ends after so long without use.
const IDLE_MS: i64 = 12 * 3600 * 1000;

/// The record of the last use is not written more often than this.
const TOUCH_MS: i64 = 60 * 1000;

/// Nobody needs more tokens; each is a secret that lies somewhere.
const MOST_TOKENS: usize = 50;

impl SessionRow {
    pub(crate) fn is_browser(&self) -> bool {
        self.carry.0 == Carry::Cookie
    }

    pub(crate) fn only_sees(&self) -> bool {
        self.scope.0 == TokenScope::See
    }
}

impl Caller {
    /// The account that is signed in; a workstation is none.
    pub(crate) fn own_account(&self, act: &Act<'_>) -> Result<(&AccountRow, &SessionRow)> {
        self.may(act)?;
        match &self.who {
            Who::Person { account, session, .. } => Ok((account, session)),
            Who::Device { .. } => Err(ServiceError::NotAllowed),
        }
    }

    pub(crate) fn session_id(&self) -> Option<&SessionId> {
        match &self.who {
            Who::Person { session, .. } => Some(&session.id),
            Who::Device { .. } => None,
        }
    }
}

impl Identity {
    /// Finds out who calls.
    pub(crate) fn authenticate(&self, credential: &Credential) -> Result<Caller> {
        let secret = credential.secret.as_deref().ok_or(ServiceError::NotSignedIn)?;
        let kind = SecretKind::of(secret).ok_or(ServiceError::NotSignedIn)?;
        let hash = hash(secret.as_bytes());
        let who = match kind {
            SecretKind::Session => self.person(&hash)?,
            SecretKind::Device => {
                let found = self.records.read(|on| Ok::<_, ServiceError>(WorkstationRow::by_credential(&hash, on)?))?;
                let (workstation, account) = found.ok_or_else(|| self.unknown_device(&hash))?;
                if account.disabled.is_some() {
                    return Err(ServiceError::Disabled(Disabled::WorkstationsAccount));
                }
                Who::Device { workstation }
            }
        };
        Ok(Caller { who, origin: credential.origin.clone() })
    }

    /// Why a device credential opens nothing: whoever has one that is over is told.
    fn unknown_device(&self, hash: &[u8]) -> ServiceError {
        let former = self.records.read(|on| Ok::<_, ServiceError>(FormerCredentialRow::by_hash(hash, on)?));
        match former {
            Ok(Some((row, name))) => ServiceError::FormerDevice { name, ended: row.ended.0, at: row.at },
            Ok(None) => ServiceError::UnknownDevice,
            Err(error) => error,
        }
    }

    /// The person behind a session's secret.
    pub(crate) fn person(&self, secret_hash: &[u8]) -> Result<Who> {
        let now = self.clock.now();
        let found = self.records.read(|on| Ok::<_, ServiceError>(SessionRow::by_secret(secret_hash, on)?))?;
        let (session, account) = found.ok_or(ServiceError::NotSignedIn)?;
        let idle = session.is_browser() && now - session.last_used > IDLE_MS;
        if idle || session.expires <= now || account.removed.is_some() || account.disabled.is_some() {
            return Err(ServiceError::NotSignedIn);
        }
        if now - session.last_used > TOUCH_MS {
            match self.records.write(|on| Ok::<_, ServiceError>(session.set_used(now, on)?)) {
                // That a session was used is no reason to refuse what it asks for.
                Err(ServiceError::Records(RecordsError::Full(_))) => {}
                other => other?,
            }
        }
        let role = account.role.0;
        Ok(Who::Person { account, role, session })
    }

    /// Who is signed in.
    pub(crate) fn me(&self, caller: &Caller) -> Result<Account> {
        let (account, _) = caller.own_account(&Act::SeeSelf)?;
        self.records.read(|on| convert::account(account, on))
    }

    /// Ends the caller's session.
    pub(crate) fn sign_out(&self, caller: &Caller) -> Result<()> {
        let (account, session) = caller.own_account(&Act::SeeSelf)?;
        self.records.write(|on| {
            SessionRow::end(&session.id, &account.id, on)?;
            self.trail.note(caller, "signed out", &session.label, on)
        })?;
        // Whoever listens with it is to hear no more.
        self.events.tell(Event::Office);
        Ok(())
    }

    /// The caller's own sessions and tokens, latest used first.
    pub(crate) fn sessions(&self, caller: &Caller) -> Result<Vec<Session>> {
        let (account, current) = caller.own_account(&Act::SeeSelf)?;
        let rows = self.records.read(|on| Ok::<_, ServiceError>(SessionRow::of(&account.id, self.clock.now(), on)?))?;
        Ok(rows.iter().map(|row| session_of(row, Some(&current.id))).collect())
    }

    /// Ends one of the caller's own sessions or tokens.
    pub(crate) fn end_session(&self, caller: &Caller, id: &SessionId) -> Result<()> {
        let (account, _) = caller.own_account(&Act::ChangeSelf)?;
        self.records.write(|on| {
            if !SessionRow::end(id, &account.id, on)? {
                return Err(ServiceError::NotFound(Thing::Session));
            }
            self.trail.note(caller, "session ended", id.as_str(), on)
        })?;
        self.events.tell(Event::Office);
        Ok(())
    }

    /// Ends all of the caller's own sessions and tokens but the one that asks.
    pub(crate) fn end_other_sessions(&self, caller: &Caller) -> Result<SessionsEnded> {
        let (account, session) = caller.own_account(&Act::ChangeSelf)?;
        let ended = self.records.write(|on| {
            let ended = SessionRow::end_all(&account.id, Some(&session.id), on)? as u64;
            self.trail.note(caller, "signed out everywhere else", &format!("{ended} sessions"), on)?;
            Ok::<_, ServiceError>(SessionsEnded { ended })
        })?;
        self.events.tell(Event::Office);
        Ok(ended)
    }

    /// Makes a token for a program of the caller's.
    pub(crate) fn add_token(&self, caller: &Caller, new: &NewToken) -> Result<IssuedToken> {
        let (account, _) = caller.own_account(&Act::ChangeSelf)?;
        let label = checked_name(&new.label)?;
        check_token_days(new.days)?;
        self.check_own_password(account, &new.password, &caller.origin)?;
        let (now, secret) = (self.clock.now(), new_secret(SecretKind::Session, &*self.random));
        let row = SessionRow {
            id: Id(new_id(&*self.random)),
            secret_hash: hash(secret.as_bytes()),
            account_id: account.id.clone(),
            carry: Carry::Token.into(),
            label,
            created: now,
            last_used: now,
            expires: now + i64::from(new.days) * DAY_MS,
            scope: new.scope.into(),
            origin: caller.origin.clone(),
        };
        self.records.write(|on| {
            if SessionRow::of(&account.id, now, on)?.len() >= MOST_TOKENS {
                return Err(ServiceError::Conflict(Conflict::TooManySessions));
            }
            row.insert(on)?;
            let after = format!("scope {}, {} days", row.scope.0.word(), new.days);
            self.trail.note_change(caller, "token made", &row.label, None, Some(&after), on)
        })?;
        Ok(IssuedToken { token: secret, record: session_of(&row, caller.session_id()) })
    }

    /// Changes the caller's own password; all that is signed in elsewhere is signed out.
    pub(crate) fn set_own_password(&self, caller: &Caller, with: &OwnPassword) -> Result<PasswordSet> {
        let (account, session) = caller.own_account(&Act::ChangeSelf)?;
        check_password(&with.new)?;
        self.check_own_password(account, &with.old, &caller.origin)?;
        self.records.write(|on| {
            let mut row = AccountRow::by_id(&account.id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            row.password = Some(hash_password(&with.new, &*self.random));
            row.update(on)?;
            self.trail.note(caller, "own password set", &row.login, on)?;
            self.password_set(&row, Some(&session.id), on)
        })
    }

    /// Refuses when this is not the password of the account that asks. Guesses cost what failed sign-ins cost.
    pub(crate) fn check_own_password(&self, account: &AccountRow, password: &str, origin: &str) -> Result<()> {
        let what = format!("own password of {}", account.id);
        self.begin_guess(&what, origin)?;
        if is_password(password, account.password.as_deref()) {
            self.guess_was_right(&what, origin);
            return Ok(());
        }
        Err(ServiceError::WrongPassword)
    }
}

/// For how many days a token opens something.
pub(crate) fn check_token_days(days: u16) -> Result<()> {
    if (1..=bounds::TOKEN_DAYS).contains(&days) {
        return Ok(());
    }
    Err(Invalid::TokenDays.into())
}

fn session_of(row: &SessionRow, current: Option<&SessionId>) -> Session {
    Session {
        id: row.id.0.clone(),
        label: row.label.clone(),
        carry: row.carry.0,
        scope: row.scope.0,
        from: row.origin.clone(),
        created: timestamp(row.created),
        last_used: timestamp(row.last_used),
        expires: timestamp(row.expires),
        current: current == Some(&*row.id),
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::people::NewPassword;

    use super::*;
    use crate::shared::DAY_MS;
    use crate::shared::testing::{Office, PASSWORD, credential};

    fn token(office: &Office, of: &Caller, scope: TokenScope) -> Credential {
        let new = NewToken { label: "reports".into(), scope, days: 30, password: PASSWORD.into() };
        let token = office.services.identity.add_token(of, &new).expect("made").token;
        Credential { secret: Some(token), origin: "127.0.0.1".into(), call: "a test".into() }
    }

    #[test]
    fn a_new_password_ends_every_session_and_token_and_no_workstation() {
        let office = Office::open();
        office.destination("shelf");
        let (identity, tove) = (&office.services.identity, office.person("tove", Role::Member));
        let machine = office.machine("tove", "front desk");
        let (session, token) = (credential(&office.services, "tove"), token(&office, &tove, TokenScope::All));
        let id = identity.me(&tove).expect("there").id;
        let set = identity.set_password(&office.ingrid, &id, &NewPassword { password: Some("another of ten".into()) });
        assert_eq!(set.expect("set").unaffected, ["front desk"]);
        for gone in [&session, &token] {
            assert!(matches!(identity.authenticate(gone), Err(ServiceError::NotSignedIn)));
        }
        assert!(office.device(&machine.enrolled).is_ok());
    }

    #[test]
    fn a_token_that_only_sees_changes_nothing_and_ends_with_its_days() {
        let office = Office::open();
        let identity = &office.services.identity;
        let sees = token(&office, &office.ingrid, TokenScope::See);
        let caller = identity.authenticate(&sees).expect("good");
        caller.may(&Act::SeeOffice).expect("it sees");
        assert!(matches!(caller.may(&Act::ChangeOffice), Err(ServiceError::NotAllowed)));
        office.pass(30 * DAY_MS);
        assert!(matches!(identity.authenticate(&sees), Err(ServiceError::NotSignedIn)));
    }

    #[test]
    fn a_session_left_open_makes_no_token_without_the_password() {
        let office = Office::open();
        let new = NewToken { label: "x".into(), scope: TokenScope::All, days: 1, password: "a wrong guess".into() };
        assert!(matches!(office.services.identity.add_token(&office.ingrid, &new), Err(ServiceError::WrongPassword)));
        assert!(check_token_days(0).is_err() && check_token_days(1).is_ok());
        assert!(check_token_days(bounds::TOKEN_DAYS).is_ok() && check_token_days(bounds::TOKEN_DAYS + 1).is_err());
    }
}
