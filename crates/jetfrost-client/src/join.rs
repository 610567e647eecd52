//! Making this machine a workstation.

use std::path::Path;

use std::time::Duration;

use jetfrost_image::crypto::{OfficePublicKey, Random, Secret, StoreKey, random_array, wrap_for_office, wrap_key};
use jetfrost_image::format::{ArgonCost, RecoveryKey, Slot, StoreFile};
use jetfrost_image::id::StoreId;
use jetfrost_platform::{Machine, System, Volumes};
use jetfrost_wire::Binary;
use jetfrost_wire::calls;
use jetfrost_wire::enrolment::{Claim, CodeIsFor, Enrol, Enrolled, Invitation, LookAtCode};
use jetfrost_wire::service::ServiceInfo;

use crate::api::Api;
use crate::browse::Browser;
use crate::clock::unix_now;
use crate::discovery::look;
use crate::error::ClientError;
use crate::selection::Selection;
use crate::state_dir::{Membership, StateDir};
use crate::unlock_methods::check_passphrase;

/// A service that is not where its code says is looked for so long.
const LOOKING: Duration = Duration::from_secs(4);

/// What opens a new image store, beside its recovery key.
#[derive(Debug, Clone, Copy)]
pub struct FirstWays<'w> {
    /// The image passphrase.
    pub passphrase: &'w str,
    /// What a try of the passphrase costs.
    pub cost: ArgonCost,
    /// The office key, if the person agreed.
    pub office_key: Option<OfficePublicKey>,
}

impl<'w> FirstWays<'w> {
    /// A passphrase at the usual cost, and nothing for the office.
    #[must_use]
    pub fn passphrase(passphrase: &'w str) -> Self {
        Self { passphrase, cost: ArgonCost::USUAL, office_key: None }
    }
}

/// A machine that joined.
#[derive(Debug)]
pub struct Joined {
    /// What it knows now.
    pub membership: Membership,
    /// To be shown once, and kept by a person.
    pub recovery_key: RecoveryKey,
}

/// Finds the service that an enrolment code leads to; its certificate must be the one in the code. Where the code's address
/// does not lead to it, it is looked for; the invitation then says where it was found.
///
/// # Errors
/// [`ClientError::OtherCertificate`]; [`ClientError::Unreachable`].
pub fn find_service(invitation: &Invitation) -> Result<(Invitation, ServiceInfo), ClientError> {
    let at = |address: &str| Api::new(address, Some(&invitation.fingerprint_text()))?.call_once(&calls::service_info());
    let unreachable = match at(&invitation.address) {
        Err(error @ ClientError::Unreachable { .. }) => error,
        other => return Ok((invitation.clone(), other?)),
    };
    let found = look(LOOKING, &[]).unwrap_or_default();
    for service in found.into_iter().filter(|service| service.fingerprint.starts_with(&invitation.fingerprint_text())) {
        if let Ok(info) = at(&service.address) {
            return Ok((Invitation { address: service.address, ..invitation.clone() }, info));
        }
    }
    Err(unreachable)
}

/// Makes this machine a workstation: keys are made here, wrapped for passphrase and recovery key, and only the wrapped
/// form is sent.
///
/// # Errors
/// [`ClientError::AlreadyJoined`]; what the service said.
pub fn join(
    state_dir: &StateDir,
    invitation: &Invitation,
    name: &str,
    ways: &FirstWays<'_>,
    random: &dyn Random,
) -> Result<Joined, ClientError> {
    check_passphrase(ways.passphrase)?;
    let now = unix_now();
    let store = StoreId(random_array(random));
    let key = StoreKey::generate(random);
    let recovery_key = RecoveryKey(random_array(random));
    let mut slots: Vec<Slot> = [Secret::Passphrase(ways.passphrase), Secret::RecoveryKey(&recovery_key)]
        .map(|secret| wrap_key(store, &key, secret, ways.cost, now, random))
        .into();
    if let Some(office) = &ways.office_key {
        slots.push(wrap_for_office(store, &key, office, now, random)?);
    }
    let membership = enrol(state_dir, invitation, name, &StoreFile::new(store, now), &slots, &key)?;
    Ok(Joined { membership, recovery_key })
}

/// Makes this machine a workstation whose backups are not encrypted: whoever gets at the destination's disk reads them.
///
/// # Errors
/// As [`join`]; the service refuses unless the enrolment code says so.
pub fn join_without_encryption(
    state_dir: &StateDir,
    invitation: &Invitation,
    name: &str,
    random: &dyn Random,
) -> Result<Membership, ClientError> {
    let (store, key, now) = (StoreId(random_array(random)), StoreKey::generate(random), unix_now());
    let slot = wrap_key(store, &key, Secret::None, ArgonCost::USUAL, now, random);
    enrol(state_dir, invitation, name, &StoreFile::open(store, now), &[slot], &key)
}

fn enrol(
    state_dir: &StateDir,
    invitation: &Invitation,
    name: &str,
    store: &StoreFile,
    slots: &[Slot],
    key: &StoreKey,
) -> Result<Membership, ClientError> {
    not_joined(state_dir)?;
    state_dir.prove_writable()?;
    let api = Api::new(&invitation.address, Some(&invitation.fingerprint_text()))?;
    let info: ServiceInfo = api.call(&calls::service_info())?;
    let enrolled: Enrolled = api.call_patiently(
        &calls::enrol(),
        &Enrol {
            secret: Binary(invitation.secret.to_vec()),
            name: name.to_owned(),
            platform: System::operating_system(),
            client_version: crate::VERSION.into(),
            disk_bytes: disk_bytes(),
            store: Binary(store.to_bytes()),
            slots: slots.iter().map(|slot| Binary(slot.to_bytes())).collect(),
        },
    )?;
    let membership = membership(invitation, info, enrolled);
    state_dir.keep_membership(&membership, key)?;
    Ok(membership)
}

/// What an enrolment code is for.
///
/// # Errors
/// What the service said.
pub fn look_at_code(invitation: &Invitation) -> Result<CodeIsFor, ClientError> {
    let api = Api::new(&invitation.address, Some(&invitation.fingerprint_text()))?;
    api.call_with(&calls::look_at_code(), &LookAtCode { secret: Binary(invitation.secret.to_vec()) })
}

/// Makes this machine a workstation that is there already, with its image store. Its key comes back when a secret opens the
/// store ([`crate::unlock_methods::unlock`]).
///
/// # Errors
/// [`ClientError::AlreadyJoined`]; what the service said.
pub fn claim(state_dir: &StateDir, invitation: &Invitation) -> Result<Membership, ClientError> {
    not_joined(state_dir)?;
    state_dir.prove_writable()?;
    let api = Api::new(&invitation.address, Some(&invitation.fingerprint_text()))?;
    let info: ServiceInfo = api.call(&calls::service_info())?;
    let call = Claim {
        secret: Binary(invitation.secret.to_vec()),
        platform: System::operating_system(),
        client_version: crate::VERSION.into(),
        disk_bytes: disk_bytes(),
    };
    let membership = membership(invitation, info, api.call_patiently(&calls::claim_workstation(), &call)?);
    state_dir.keep_claimed(&membership)?;
    Ok(membership)
}

/// The selection that this workstation's points were made with, if this machine has none of its own: what a machine that took the
/// workstation over goes on with, once [`StateDir::write_selection`] has it. The store's key must be here.
///
/// # Errors
/// What the service said; [`ClientError::Damaged`].
pub fn selection_to_go_on_with(state_dir: &StateDir) -> Result<Option<Selection>, ClientError> {
    if !state_dir.selection()?.is_empty() {
        return Ok(None);
    }
    Browser::open(state_dir)?.selection_of_before()
}

/// Knows the service by another identity, which a person vouches for: the service at the known address must have it.
///
/// # Errors
/// [`ClientError::OtherCertificate`] when it has not; [`ClientError::NotJoined`]; [`ClientError::Unexpected`] when the text is no
/// whole fingerprint, or another service has this identity.
pub fn accept_identity(state_dir: &StateDir, fingerprint: &str) -> Result<Membership, ClientError> {
    let fingerprint: String = fingerprint.to_lowercase().chars().filter(|c| !":- ".contains(*c)).collect();
    if fingerprint.len() != 64 {
        return Err(ClientError::Unexpected(format!("'{fingerprint}' is no fingerprint of 64 digits")));
    }
    let known = state_dir.membership()?;
    let info: ServiceInfo = Api::new(&known.address, Some(&fingerprint))?.call_once(&calls::service_info())?;
    if info.id.0 != known.service {
        return Err(ClientError::Unexpected(format!(
            "{} is another service than the one that this workstation joined",
            known.address
        )));
    }
    let membership = Membership { fingerprint, ..known };
    state_dir.keep_claimed(&membership)?;
    Ok(membership)
}

/// Reaches the service at another address from now on, which a person gives: what answers there must have the identity that this
/// workstation knows.
///
/// # Errors
/// [`ClientError::OtherCertificate`]; [`ClientError::Unreachable`]; [`ClientError::NotJoined`].
pub fn accept_address(state_dir: &StateDir, address: &str) -> Result<Membership, ClientError> {
    go_to(state_dir, address, None)
}

/// Looks for this workstation's service where its address does not lead to it, and reaches it there until the address that a person gave
/// leads to it again ([`go_back`]). What is heard on a network is anybody's word: only what has the identity that this workstation
/// knows counts, and even that may only pass on what it hears. Returns what holds then; none when it is not found, or where it was.
///
/// # Errors
/// [`ClientError::NotJoined`]; [`ClientError::File`] when the address cannot be kept.
pub fn find_again(state_dir: &StateDir) -> Result<Option<Membership>, ClientError> {
    let known = state_dir.membership()?;
    let given = known.moved_from.as_ref().unwrap_or(&known.address);
    let found = look(LOOKING, &[]).unwrap_or_default();
    for one in found.into_iter().filter(|one| one.fingerprint == known.fingerprint && one.address != known.address) {
        let moved_from = Some(given.clone()).filter(|given| *given != one.address);
        if let Some(membership) = if_it_answers(go_to(state_dir, &one.address, moved_from))? {
            return Ok(Some(membership));
        }
    }
    Ok(None)
}

/// Goes back to the address that a person gave, once the service answers there. Returns what holds then; none when it does not, or when
/// that is the address anyhow.
///
/// # Errors
/// As [`find_again`].
pub fn go_back(state_dir: &StateDir) -> Result<Option<Membership>, ClientError> {
    match state_dir.membership()?.moved_from {
        Some(given) => if_it_answers(go_to(state_dir, &given, None)),
        None => Ok(None),
    }
}

fn go_to(state_dir: &StateDir, address: &str, moved_from: Option<String>) -> Result<Membership, ClientError> {
    let known = state_dir.membership()?;
    let _: ServiceInfo = Api::new(address, Some(&known.fingerprint))?.call_once(&calls::service_info())?;
    let membership = Membership { address: address.to_owned(), moved_from, ..known };
    state_dir.keep_claimed(&membership)?;
    Ok(membership)
}

/// What does not answer as the service is not it.
fn if_it_answers(tried: Result<Membership, ClientError>) -> Result<Option<Membership>, ClientError> {
    match tried {
        Err(ClientError::Unreachable { .. } | ClientError::OtherCertificate { .. } | ClientError::Unexpected(_)) => Ok(None),
        other => other.map(Some),
    }
}

fn not_joined(state_dir: &StateDir) -> Result<(), ClientError> {
    match state_dir.membership() {
        Ok(membership) => Err(ClientError::AlreadyJoined(membership.name)),
        Err(ClientError::NotJoined) => Ok(()),
        Err(e) => Err(e),
    }
}

fn membership(invitation: &Invitation, info: ServiceInfo, enrolled: Enrolled) -> Membership {
    Membership {
        address: invitation.address.clone(),
        moved_from: None,
        fingerprint: info.fingerprint,
        service: enrolled.service.0,
        workstation: enrolled.workstation.0,
        name: enrolled.name,
        login: enrolled.login,
        destination: enrolled.destination_name,
        store: enrolled.store.0,
        credential: enrolled.credential,
    }
}

/// Bytes of the volume at the root.
fn disk_bytes() -> Option<u64> {
    System::size_and_free(Path::new("/")).ok().map(|(size, _)| size)
}

/// This machine's name.
#[must_use]
pub fn host_name() -> String {
    System::host_name().unwrap_or_else(|| "workstation".into())
}
