//! How a machine becomes a workstation.

use jetfrost_image::StoreId;
use jetfrost_image::crypto::random_array;
use jetfrost_image::format::{Slot, StoreFile};
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_types::CodeId;
use jetfrost_types::ImageStoreId;
use jetfrost_types::Limit;
use jetfrost_wire::destination::EncryptionPolicy;
use jetfrost_wire::enrolment::{
    Claim, CodeIsFor, CodeLimit, CodeState, Enrol, Enrolled, EnrolmentCode, Invitation, IssuedCode, LookAtCode, NewEnrolmentCode,
    NewOwnCode,
};
use jetfrost_wire::event::Event;
use jetfrost_wire::workstation::Workstation;
use jetfrost_wire::{Page, PageQuery, ServiceId, WorkstationId};

use crate::backups::Backups;
use crate::identity::accounts::account_named;
use crate::identity::grants::{destination_named, has_access};
use crate::records::{
    AccountRow, AgentRow, Asked, CodeRow, CodeWithNames, Connection, Count, DestinationRow, DiagnosisRow, Ended, Id, InJson,
    NewCode, OfficePause, StoreRow, WorkstationLine, WorkstationRest, WorkstationRow, is_duplicate, own_machines,
};
use crate::secrets::{SecretKind, hash, new_id, new_secret};
use crate::shared::{
    Caller, CodeFault, Conflict, Disabled, Invalid, Result, ServiceError, Thing, bounds, checked_name, convert, limit_to_db,
    number_cursor, place, to_db,
};
use crate::storage::adoption::free_name;
use crate::storage::key_slots::row_of;

const HOUR_MS: i64 = 3600 * 1000;

const USUAL_HOURS: u16 = 48;

/// A code that a person makes for a machine of their own is used at once.
const OWN_HOURS: i64 = 1;
/// So many machines and unused codes a person may come to by enrolling them: a password that was stolen fills no destination with
/// workstations.
const MOST_OWN: u64 = 5;

const MOST_DESTINATIONS: usize = 1000;

/// What an enrolment code is to make.
pub(crate) struct Makes<'m> {
    pub(crate) account: &'m AccountRow,
    pub(crate) destination: &'m DestinationRow,
    /// The workstation that it hands to a machine, instead of making one.
    pub(crate) claims: Option<&'m WorkstationLine>,
    /// Name of the workstation, where it is decided.
    pub(crate) machine: Option<&'m str>,
    /// The limit of its image store; none for the usual one.
    pub(crate) limit: Option<Limit>,
    pub(crate) encrypted: bool,
}

impl Backups {
    /// Enrolment codes, latest first.
    pub(crate) fn enrolment_codes(&self, caller: &Caller, page: &PageQuery) -> Result<Page<EnrolmentCode>> {
        caller.may(&Act::SeeOffice)?;
        let (before, now) = (number_cursor(page.after.as_ref())?, self.clock.now());
        let rows = self.records.read(|on| Ok::<_, ServiceError>(CodeWithNames::list(before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.code.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::enrolment_code(row, now)).collect(), next: page.next })
    }

    pub(crate) fn issue_code(&self, caller: &Caller, new: &NewEnrolmentCode) -> Result<IssuedCode> {
        caller.may(&Act::ChangeOffice)?;
        let lasts = lasting(new.hours.unwrap_or(USUAL_HOURS))?;
        let machine = new.machine.as_deref().map(checked_name).transpose()?;
        let issued = self.records.write(|on| {
            let account = account_named(&new.login, on)?;
            if account.disabled.is_some() {
                return Err(Invalid::AccountDisabled(account.login).into());
            }
            let claimed = new.claims.as_ref().map(|name| claimable(name, &account, on)).transpose()?;
            let destination = match &claimed {
                Some(line) => line.destination.clone(),
                None => chosen_destination(new.destination.as_deref(), &account, on)?,
            };
            if new.without_encryption {
                may_go_without_encryption(&destination)?;
            }
            let limit = match new.limit {
                CodeLimit::Usual => None,
                CodeLimit::None => Some(Limit::None),
                CodeLimit::Bytes { bytes } => Some(Limit::Bytes(bytes)),
            };
            let makes = Makes {
                account: &account,
                destination: &destination,
                claims: claimed.as_ref(),
                machine: machine.as_deref(),
                limit,
                encrypted: !new.without_encryption,
            };
            self.insert_code(caller, &makes, lasts, on)
        })?;
        self.events.tell(Event::Office);
        Ok(issued)
    }

    /// Makes an enrolment code for a machine of whoever asks, where the office allows that. It makes a new workstation with the usual limit,
    /// encrypted; handing over an existing one stays with administrators.
    pub(crate) fn issue_own_code(&self, caller: &Caller, new: &NewOwnCode) -> Result<IssuedCode> {
        let (account, _) = caller.own_account(&Act::EnrolSelf)?;
        let issued = self.records.write(|on| {
            if !own_machines(on)? {
                return Err(ServiceError::Conflict(Conflict::NotOwnMachines));
            }
            let account = AccountRow::by_id(&account.id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            if account.disabled.is_some() {
                return Err(Invalid::AccountDisabled(account.login).into());
            }
            let destination = chosen_destination(new.destination.as_deref(), &account, on)?;
            let has =
                WorkstationLine::machines_of(&account.id, on)?.get() + CodeRow::open_of(&account.id, self.clock.now(), on)?.get();
            if has >= MOST_OWN {
                return Err(ServiceError::Conflict(Conflict::EnoughMachines));
            }
            let makes =
                Makes { account: &account, destination: &destination, claims: None, machine: None, limit: None, encrypted: true };
            self.insert_code(caller, &makes, OWN_HOURS * HOUR_MS, on)
        })?;
        self.events.tell(Event::Office);
        Ok(issued)
    }

    /// Makes an enrolment code, within a transaction; `lasts` is in milliseconds.
    pub(crate) fn insert_code(&self, caller: &Caller, makes: &Makes<'_>, lasts: i64, on: &mut Connection) -> Result<IssuedCode> {
        let secret: [u8; 10] = random_array(&*self.random);
        let (id, now): (CodeId, _) = (new_id(&*self.random), self.clock.now());
        let machine_key = makes.machine.map(names::key);
        CodeRow::insert(
            &NewCode {
                id: id.as_str(),
                secret_hash: &hash(&secret),
                account_id: makes.account.id.as_str(),
                destination_id: makes.destination.id.as_str(),
                created: now,
                expires: now + lasts,
                claims: makes.claims.map(|line| line.workstation.id.as_str()),
                machine: makes.machine,
                machine_key: machine_key.as_deref(),
                limit_said: makes.limit.is_some(),
                size_limit: makes.limit.map(limit_to_db).transpose()?.flatten(),
                encrypted: makes.encrypted,
            },
            on,
        )?;
        let after = match (makes.claims, makes.machine) {
            (Some(line), _) => Some(format!("hands over the image store of {}", line.workstation.name)),
            (None, Some(machine)) => Some(format!("for {machine} on {}", makes.destination.name)),
            (None, None) => None,
        };
        self.trail.note_change(caller, "enrolment code made", &makes.account.login, None, after.as_deref(), on)?;
        self.issued(&id, secret, on)
    }

    /// Gives an enrolment code another secret, as when its hand-out was lost. The one from before opens nothing any more.
    pub(crate) fn renew_code(&self, caller: &Caller, id: &CodeId) -> Result<IssuedCode> {
        caller.may(&Act::ChangeOffice)?;
        let issued = self.records.write(|on| {
            let row = CodeWithNames::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
            if row.code.used.is_some() || row.code.cancelled.is_some() {
                return Err(ServiceError::Conflict(Conflict::CodeSpent));
            }
            let secret: [u8; 10] = random_array(&*self.random);
            row.code.renew(&hash(&secret), self.clock.now(), on)?;
            self.trail.note(caller, "enrolment code renewed", &row.login, on)?;
            self.issued(id, secret, on)
        })?;
        self.events.tell(Event::Office);
        Ok(issued)
    }

    fn issued(&self, id: &CodeId, secret: [u8; 10], on: &mut Connection) -> Result<IssuedCode> {
        let row = CodeWithNames::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
        Ok(IssuedCode { code: self.invitation(secret).to_text(), record: convert::enrolment_code(&row, self.clock.now()) })
    }

    fn invitation(&self, secret: [u8; 10]) -> Invitation {
        let mut fingerprint = [0; 16];
        fingerprint.copy_from_slice(&self.installation.certificates.fingerprint()[..16]);
        Invitation { address: format!("{}:{}", self.installation.public_name, self.installation.port), fingerprint, secret }
    }

    pub(crate) fn cancel_code(&self, caller: &Caller, id: &CodeId) -> Result<EnrolmentCode> {
        caller.may(&Act::ChangeOffice)?;
        let now = self.clock.now();
        let code = self.records.write(|on| {
            let row = CodeWithNames::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
            if convert::enrolment_code(&row, now).state != CodeState::Unused {
                return Err(ServiceError::Conflict(Conflict::CodeNotUnused));
            }
            row.code.set_cancelled(now, on)?;
            self.trail.note(caller, "enrolment code cancelled", &row.login, on)?;
            let row = CodeWithNames::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
            Ok(convert::enrolment_code(&row, now))
        })?;
        self.events.tell(Event::Office);
        Ok(code)
    }

    /// Says what a code is for, to whoever has it.
    pub(crate) fn look_at_code(&self, look: &LookAtCode, origin: &str) -> Result<CodeIsFor> {
        self.with_code(&look.secret.0, origin, |code, on| {
            let row = CodeWithNames::by_id(&code.id, on)?.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
            Ok(CodeIsFor {
                login: row.login,
                destination: row.destination,
                claims: row.claims,
                machine: code.machine.clone(),
                encrypted: code.encrypted,
            })
        })
    }

    /// Turns a machine into a workstation. The code is used up only if everything else succeeded.
    pub(crate) fn enrol(&self, with: &Enrol, origin: &str) -> Result<Enrolled> {
        let own_name = checked_name(&with.name)?;
        let store = checked_store(with)?;
        let enrolled = self.with_code(&with.secret.0, origin, |code, on| {
            if code.claims.is_some() {
                return Err(ServiceError::Conflict(Conflict::ClientTooOld));
            }
            let account = AccountRow::by_id(&code.account_id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            let destination =
                DestinationRow::by_id(&code.destination_id, on)?.ok_or(ServiceError::NotFound(Thing::Destination))?;
            takes_new_stores(&account, &destination, on)?;
            if !store.is_encrypted() {
                if code.encrypted {
                    return Err(Invalid::EncryptedCode.into());
                }
                may_go_without_encryption(&destination)?;
            }
            let name = code.machine.as_ref().unwrap_or(&own_name);
            let (workstation, credential) = self.insert_workstation(code, with, name, on)?;
            let limit = match code.limit() {
                Some(limit) => limit_to_db(limit)?,
                None => default_limit(&account, &destination, on)?,
            };
            insert_store(&store, &workstation, &destination, limit, on)?;
            for bytes in &with.slots {
                let slot = Slot::from_bytes(&bytes.0).map_err(jetfrost_image::store::StoreError::from)?;
                row_of(&slot, bytes.0.clone()).put(on)?;
            }
            code.set_used(self.clock.now(), &workstation.id, on)?;
            self.trail.note_as(&account.login, origin, "workstation enrolled", &workstation.name, on)?;
            // Last, so that a failure before leaves no directory; if this fails, nothing is recorded.
            self.make_store(&store, with, &workstation, &account, &destination)?;
            Ok(self.enrolled(workstation, credential, &account, &destination, ImageStoreId(store.store.to_string())))
        })?;
        self.events.workstation_changed(&enrolled.workstation);
        Ok(enrolled)
    }

    /// Hands a workstation that is there to a machine. Whichever machine had it before is cut off.
    pub(crate) fn claim_workstation(&self, with: &Claim, origin: &str) -> Result<Enrolled> {
        let enrolled = self.with_code(&with.secret.0, origin, |code, on| {
            let claims = code.claims.as_ref();
            let claims = claims.ok_or(ServiceError::Conflict(Conflict::CodeMakesNew))?;
            let line = WorkstationLine::by_id(claims, on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
            let credential = new_secret(SecretKind::Device, &*self.random);
            let mut row = line.workstation.clone();
            row.end_credential(Ended::Claimed, self.clock.now(), on)?;
            row.account_id.clone_from(&code.account_id);
            row.credential_hash = hash(credential.as_bytes());
            row.platform = shortened(&with.platform, bounds::PLATFORM);
            row.client_version = shortened(&with.client_version, bounds::VERSION);
            row.disk_bytes = with.disk_bytes.map(to_db).transpose()?;
            row.last_seen = Some(self.clock.now());
            *row.rest = None;
            // What the machine before failed at, or was asked for, is not this one's; its schedule and a pause are.
            (row.failures, *row.asked) = (Count::ZERO, None);
            row.update(on)?;
            AgentRow::forget(&row.id, on)?;
            DiagnosisRow::forget(&row.id, on)?;
            code.set_used(self.clock.now(), &row.id, on)?;
            let account = AccountRow::by_id(&code.account_id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            self.trail.note_as(&account.login, origin, "workstation claimed", &row.name, on)?;
            Ok(self.enrolled(row, credential, &account, &line.destination, line.store.id.0))
        })?;
        self.events.workstation_changed(&enrolled.workstation);
        Ok(enrolled)
    }

    /// Does something with an open code. Guesses are counted and put on record.
    fn with_code<T>(&self, secret: &[u8], origin: &str, work: impl FnOnce(&CodeRow, &mut Connection) -> Result<T>) -> Result<T> {
        self.identity.begin_guess("enrolment", origin)?;
        let done = self.records.write(|on| {
            let code = CodeRow::by_secret(&hash(secret), on)?;
            let code = code.ok_or(ServiceError::WrongCode(CodeFault::Unknown))?;
            self.check_open(&code)?;
            let account = AccountRow::by_id(&code.account_id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            if account.disabled.is_some() {
                return Err(ServiceError::Disabled(Disabled::CodesAccount));
            }
            work(&code, on)
        });
        if let Err(ServiceError::WrongCode(why)) = &done {
            self.trail.note_refusal("unknown", origin, "enrolment refused", &why.to_string())?;
        } else {
            self.identity.guess_was_right("enrolment", origin);
        }
        done
    }

    fn enrolled(
        &self,
        workstation: WorkstationRow,
        credential: String,
        account: &AccountRow,
        destination: &DestinationRow,
        store: ImageStoreId,
    ) -> Enrolled {
        Enrolled {
            workstation: workstation.id.0,
            name: workstation.name,
            credential,
            service: ServiceId(self.installation.service.clone()),
            account: account.id.0.clone(),
            login: account.login.clone(),
            destination: destination.id.0.clone(),
            destination_name: destination.name.clone(),
            store,
        }
    }

    /// Cuts a workstation's machine off. Its backups stay, and can be claimed.
    pub(crate) fn retire(&self, caller: &Caller, id: &WorkstationId) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            let line = WorkstationLine::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
            if line.workstation.rest.is_some() {
                return Err(ServiceError::Conflict(Conflict::NoMachine));
            }
            self.trail.note(caller, "workstation retired", &line.workstation.name, on)?;
            Ok(line.workstation.cut_off(self.clock.now(), &caller.name(), on)?)
        })?;
        self.events.workstation_changed(id);
        self.workstation(caller, id)
    }

    fn check_open(&self, code: &CodeRow) -> Result<()> {
        match (code.used, code.cancelled) {
            (Some(_), _) => Err(ServiceError::WrongCode(CodeFault::Used)),
            (None, Some(_)) => Err(ServiceError::WrongCode(CodeFault::Cancelled)),
            (None, None) if code.expires <= self.clock.now() => Err(ServiceError::WrongCode(CodeFault::Expired)),
            (None, None) => Ok(()),
        }
    }

    fn insert_workstation(
        &self,
        code: &CodeRow,
        with: &Enrol,
        name: &str,
        on: &mut Connection,
    ) -> Result<(WorkstationRow, String)> {
        let name = free_name(name, on)?;
        let credential = new_secret(SecretKind::Device, &*self.random);
        let row = WorkstationRow {
            id: Id(new_id(&*self.random)),
            name_key: names::key(&name),
            name,
            account_id: code.account_id.clone(),
            credential_hash: hash(credential.as_bytes()),
            platform: shortened(&with.platform, bounds::PLATFORM),
            client_version: shortened(&with.client_version, bounds::VERSION),
            disk_bytes: with.disk_bytes.map(to_db).transpose()?,
            enrolled: self.clock.now(),
            last_seen: Some(self.clock.now()),
            latest_run: None,
            rest: WorkstationRest::default(),
            schedule: InJson::default(),
            failures: Count::ZERO,
            asked: Asked::default(),
            paused: OfficePause::default(),
        };
        row.insert(on)?;
        Ok((row, credential))
    }

    fn make_store(
        &self,
        store: &StoreFile,
        with: &Enrol,
        workstation: &WorkstationRow,
        account: &AccountRow,
        destination: &DestinationRow,
    ) -> Result<()> {
        let slots: Vec<Vec<u8>> = with.slots.iter().map(|slot| slot.0.clone()).collect();
        // Enough to adopt the store by. Whoever takes the disk need not learn the person's full name.
        let owner = serde_json::json!({
            "workstation": workstation.name, "workstation_id": workstation.id.0, "account": account.login,
        });
        Ok(self.media.create(&place(destination), store, &slots, &owner.to_string())?)
    }
}

fn checked_store(with: &Enrol) -> Result<StoreFile> {
    let store = StoreFile::from_bytes(&with.store.0).map_err(jetfrost_image::store::StoreError::from)?;
    if with.slots.is_empty() || with.slots.len() > bounds::SLOTS {
        return Err(Invalid::SlotCount.into());
    }
    for slot in &with.slots {
        let slot = Slot::from_bytes(&slot.0).map_err(jetfrost_image::store::StoreError::from)?;
        if slot.store != store.store || !store.takes(slot.kind) {
            return Err(Invalid::ForeignSlot.into());
        }
    }
    Ok(store)
}

pub(crate) fn shortened(text: &str, most: usize) -> String {
    text.chars().take(most).collect()
}

/// Refuses when an account's new workstation cannot have its image store on a destination.
fn takes_new_stores(account: &AccountRow, destination: &DestinationRow, on: &mut Connection) -> Result<()> {
    if destination.withdrawn.is_some() {
        return Err(ServiceError::Withdrawn(destination.name.clone()));
    }
    has_access(account, destination, on)
}

/// A workstation that a code may hand over: one of the account's own, or one that rests.
fn claimable(name: &str, account: &AccountRow, on: &mut Connection) -> Result<WorkstationLine> {
    let line = WorkstationLine::by_name(&names::key(name), on)?;
    let line = line.ok_or_else(|| Invalid::Unknown { what: Thing::Workstation, name: name.into() })?;
    if line.account.id != account.id {
        return Err(Invalid::OthersWorkstation { workstation: name.into(), owner: line.account.login }.into());
    }
    if line.store.removal.is_some() {
        return Err(Invalid::PendingRemoval(name.into()).into());
    }
    Ok(line)
}

/// Refuses when image stores on a destination must be encrypted.
pub(crate) fn may_go_without_encryption(destination: &DestinationRow) -> Result<()> {
    match destination.encryption.0 {
        EncryptionPolicy::Optional => Ok(()),
        EncryptionPolicy::Required => Err(Invalid::EncryptedDestination(destination.name.clone()).into()),
    }
}

/// How long a code lasts, in milliseconds.
pub(crate) fn lasting(hours: u16) -> Result<i64> {
    if (1..=bounds::CODE_HOURS).contains(&hours) { Ok(i64::from(hours) * HOUR_MS) } else { Err(Invalid::CodeHours.into()) }
}

/// The limit that a new image store gets: the largest default of the account's groups, or what the destination says.
fn default_limit(account: &AccountRow, destination: &DestinationRow, on: &mut Connection) -> Result<Option<Count>> {
    let of_groups = account.groups(on)?.into_iter().filter_map(|group| group.default_limit).max();
    Ok(of_groups.or(destination.default_limit))
}

fn insert_store(
    store: &StoreFile,
    workstation: &WorkstationRow,
    destination: &DestinationRow,
    limit: Option<Count>,
    on: &mut Connection,
) -> Result<()> {
    let id: StoreId = store.store;
    let row = StoreRow {
        id: Id(ImageStoreId(id.to_string())),
        workstation_id: workstation.id.clone(),
        destination_id: destination.id.clone(),
        points: Count::ZERO,
        latest_sequence: None,
        created: workstation.enrolled,
        size_limit: limit,
        encrypted: store.is_encrypted(),
        slots_noted: true,
        ..StoreRow::default()
    };
    row.insert(on).map_err(|e| match is_duplicate(&e) {
        true => ServiceError::Conflict(Conflict::StoreIdTaken),
        false => e.into(),
    })
}

/// The destination that was named, or else the only one that is open to the account.
fn chosen_destination(name: Option<&str>, account: &AccountRow, on: &mut Connection) -> Result<DestinationRow> {
    if let Some(name) = name {
        let destination = destination_named(name, on)?;
        takes_new_stores(account, &destination, on)?;
        return Ok(destination);
    }
    let all = DestinationRow::list("", MOST_DESTINATIONS, on)?;
    let none = all.is_empty();
    let mut open: Vec<DestinationRow> = Vec::new();
    for destination in all {
        match takes_new_stores(account, &destination, on) {
            Ok(()) => open.push(destination),
            Err(ServiceError::Withdrawn(_) | ServiceError::NoAccess { .. }) => {}
            Err(other) => return Err(other),
        }
    }
    match (open.pop(), open.pop()) {
        (Some(only), None) => Ok(only),
        (Some(_), Some(_)) => Err(Invalid::WhichDestination.into()),
        (None, _) if none => Err(Invalid::NoDestination.into()),
        (None, _) => Err(ServiceError::NoAccess { login: account.login.clone(), destination: None }),
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::Binary;
    use jetfrost_wire::enrolment::{Invitation, LookAtCode};

    use super::*;
    use crate::shared::testing::Office;

    #[test]
    fn a_code_opens_a_destination_to_its_account_alone_and_not_for_ever() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let backups = &office.services.backups;
        let issued = backups.issue_code(&office.ingrid, &NewEnrolmentCode::new("tove")).expect("issued");
        let invitation = Invitation::parse(&issued.code).expect("it reads back");
        let look = || LookAtCode { secret: Binary(invitation.secret.to_vec()) };
        let says = backups.look_at_code(&look(), "127.0.0.1").expect("good");
        assert_eq!(says.login, "tove");
        office.pass(31 * crate::shared::DAY_MS);
        assert!(matches!(backups.look_at_code(&look(), "127.0.0.1"), Err(ServiceError::WrongCode(_))), "it is over");
    }

    #[test]
    fn a_code_enrols_one_machine_and_a_slot_of_another_store_none() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let (mut enrol, _, _, _) = office.enrolment("tove", "front desk");
        let own = std::mem::replace(&mut enrol.slots, office.enrolment("tove", "x").0.slots);
        let backups = &office.services.backups;
        assert!(matches!(backups.enrol(&enrol, "127.0.0.1"), Err(ServiceError::Invalid(Invalid::ForeignSlot))));
        enrol.slots = own;
        backups.enrol(&enrol, "127.0.0.1").expect("the code was not used up");
        assert!(matches!(backups.enrol(&enrol, "127.0.0.1"), Err(ServiceError::WrongCode(CodeFault::Used))));
    }

    #[test]
    fn a_workstation_is_handed_over_to_a_machine_of_its_own_account_alone() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        office.person("liv", Role::Member);
        let machine = office.machine("tove", "front desk");
        let backups = &office.services.backups;
        let claims = |login: &str| NewEnrolmentCode { claims: Some("Front Desk".into()), ..NewEnrolmentCode::new(login) };
        let others = backups.issue_code(&office.ingrid, &claims("liv"));
        assert!(matches!(others, Err(ServiceError::Invalid(Invalid::OthersWorkstation { owner, .. })) if owner == "tove"));
        let code = backups.issue_code(&office.ingrid, &claims("tove")).expect("issued").code;
        let secret = Binary(Invitation::parse(&code).expect("it reads back").secret.to_vec());
        let claim = Claim { secret, platform: "Test 2".into(), client_version: "0.0.0".into(), disk_bytes: None };
        let claimed = backups.claim_workstation(&claim, "127.0.0.1").expect("claimed");
        assert_eq!((&claimed.workstation, &claimed.store), (&machine.enrolled.workstation, machine.store()));
        assert!(
            matches!(office.device(&machine.enrolled), Err(ServiceError::FormerDevice { ended: Ended::Claimed, .. })),
            "the machine before is cut off"
        );
        office.device(&claimed).expect("the new one is known");
    }

    #[test]
    fn of_several_destinations_one_is_named_and_of_none_nothing_is_made() {
        let office = Office::open();
        office.person("tove", Role::Member);
        let issue = || office.services.backups.issue_code(&office.ingrid, &NewEnrolmentCode::new("tove"));
        assert!(matches!(issue(), Err(ServiceError::Invalid(Invalid::NoDestination))));
        office.destination("shelf");
        issue().expect("the only one");
        office.destination("cellar");
        assert!(matches!(issue(), Err(ServiceError::Invalid(Invalid::WhichDestination))));
    }
}
