//! Whether what somebody types keeps to a rule: each is the function that counts when it is sent.

use std::path::Path;

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::rules::{FieldRule, Ruling, Typed};

use crate::identity::accounts::{account_named, check_password};
use crate::identity::sessions;
use crate::media::there_or_above;
use crate::operations::{Operations, discovery, mail};
use crate::records::{AccountRow, DestinationRow, GroupRow};
use crate::shared::{Caller, Credential, Invalid, Result, ServiceError, check_days, checked_name};
use crate::storage::destinations;

impl Operations {
    /// Holds text against a rule. Anybody may ask, for a first administrator has no session yet; whether a name is taken is told
    /// only to those who may see whose it is.
    pub(crate) fn rule_on(&self, credential: &Credential, typed: &Typed) -> Result<Ruling> {
        let caller = match self.identity.authenticate(credential) {
            Err(ServiceError::NotSignedIn) => None,
            other => Some(other?),
        };
        let kept = keeps(typed.rule, &typed.text).and_then(|()| caller.map_or(Ok(()), |caller| self.suits(&caller, typed)));
        match kept {
            Ok(()) => Ok(Ruling { complaint: None }),
            Err(ServiceError::Invalid(what)) => Ok(Ruling { complaint: Some(what.to_string()) }),
            Err(ServiceError::NameTaken(name)) => Ok(Ruling { complaint: Some(format!("the name '{name}' is taken")) }),
            Err(error) => Err(error),
        }
    }

    /// Whether it suits what there is, as far as this caller may see that.
    fn suits(&self, caller: &Caller, typed: &Typed) -> Result<()> {
        let (sees, changes) = (caller.may(&Act::SeeOffice).is_ok(), caller.may(&Act::ChangeOffice).is_ok());
        match typed.rule {
            FieldRule::Directory if changes => Ok(there_or_above(Path::new(&typed.text)).map(drop).map_err(Invalid::from)?),
            FieldRule::KnownAccount if sees => self.records.read(|on| account_named(&typed.text, on).map(drop)),
            FieldRule::AccountName | FieldRule::GroupName | FieldRule::DestinationName if sees => self.is_free(typed),
            _ => Ok(()),
        }
    }

    /// Whether nobody else has a name.
    fn is_free(&self, typed: &Typed) -> Result<()> {
        let key = names::key(&typed.text);
        if typed.until_now.as_ref().is_some_and(|now| names::key(now) == key) {
            return Ok(());
        }
        let holder = self.records.read(|on| {
            Ok::<_, ServiceError>(match typed.rule {
                FieldRule::AccountName => AccountRow::by_key(&key, on)?.map(|row| row.login),
                FieldRule::GroupName => GroupRow::by_key(&key, on)?.map(|row| row.name),
                FieldRule::DestinationName => DestinationRow::by_key(&key, on)?.map(|row| row.name),
                _ => None,
            })
        })?;
        holder.map_or(Ok(()), |name| Err(ServiceError::NameTaken(name)))
    }
}

/// Whether text keeps to a rule, for all that can be said without the records.
fn keeps(rule: FieldRule, text: &str) -> Result<()> {
    match rule {
        FieldRule::AccountName
        | FieldRule::KnownAccount
        | FieldRule::GroupName
        | FieldRule::DestinationName
        | FieldRule::Name => checked_name(text).map(drop),
        FieldRule::Directory if Path::new(text).is_absolute() => Ok(()),
        FieldRule::Directory => Err(Invalid::RelativeDirectory.into()),
        FieldRule::Description => destinations::checked_description(text).map(drop),
        FieldRule::Password => check_password(text),
        FieldRule::Limit if text.trim() == "none" => Ok(()),
        FieldRule::Size | FieldRule::Limit => jetfrost_wire::size::parse(text).map(drop).map_err(|e| Invalid::from(e).into()),
        FieldRule::Days => check_days(number(text)?),
        FieldRule::TokenDays => sessions::check_token_days(number(text).unwrap_or(0)),
        FieldRule::AnnouncedName => discovery::checked_announced_name(text).map(drop),
        FieldRule::MailServer => mail::check_server(text.trim()),
        FieldRule::Port => mail::check_port(number(text).unwrap_or(0)),
        FieldRule::MailSecret => mail::check_secret(text),
        FieldRule::MailAddress => mail::check_address(text.trim()),
        FieldRule::MailAddresses => mail::check_recipients(&addresses(text)),
    }
}

/// Whole numbers are typed in decimal digits.
fn number<N: std::str::FromStr>(text: &str) -> Result<N> {
    text.trim().parse().map_err(|_| Invalid::Number.into())
}

/// Addresses as people list them.
fn addresses(text: &str) -> Vec<String> {
    text.split([',', ';', '\n']).map(str::trim).filter(|one| !one.is_empty()).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn complaint(rule: FieldRule, text: &str) -> Option<String> {
        keeps(rule, text).err().map(|error| error.to_string())
    }

    #[test]
    fn each_rule_takes_what_is_fit_and_says_why_it_does_not_take_the_rest() {
        for (rule, fit, unfit) in [
            (FieldRule::AccountName, "Mara", " "),
            (FieldRule::GroupName, "Drawing office", "a\tb"),
            (FieldRule::DestinationName, "Attic shelf", ""),
            (FieldRule::Name, "mara-desk", "\n"),
            (FieldRule::Directory, "/backup/office", "backup"),
            (FieldRule::Description, "", "\u{7}"),
            (FieldRule::Password, "ten letters", "too short"),
            (FieldRule::Size, "1.5 TB", "1.5"),
            (FieldRule::Limit, "none", "no limit"),
            (FieldRule::KnownAccount, "mara", ""),
            (FieldRule::Days, "30", "-1"),
            (FieldRule::TokenDays, "90", "0"),
            (FieldRule::AnnouncedName, "Backups of the office", "backups.office"),
            (FieldRule::MailServer, "mail.office.example", "mail office"),
            (FieldRule::Port, "587", "0"),
            (FieldRule::MailSecret, "backups", ""),
            (FieldRule::MailAddress, "backups@office.example", "backups"),
            (FieldRule::MailAddresses, "mara@office.example; ben@office.example", "mara@office.example, ben"),
        ] {
            assert_eq!(complaint(rule, fit), None, "{rule:?}");
            assert!(complaint(rule, unfit).is_some_and(|why| !why.is_empty()), "{rule:?}");
        }
    }
}
