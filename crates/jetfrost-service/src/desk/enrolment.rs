//! How a machine becomes a workstation.

use jetfrost_image::StoreId;
use jetfrost_image::crypto::random_array;
use jetfrost_image::format::{Slot, StoreFile};
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::enrolment::{CodeState, Enrol, Enrolled, EnrolmentCode, Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::event::Event;
use jetfrost_wire::{AccountId, DestinationId, Page, PageQuery, ServiceId, WorkstationId};

use super::people::cursor;
use super::{Caller, Desk, DeskError, Result, checked_name, convert, place, to_db};
use crate::records::{AccountRow, CodeRow, CodeWithNames, Connection, DestinationRow, StoreRow, WorkstationRow, is_duplicate};
use crate::secrets::{SecretKind, hash, new_id, new_secret};

const HOUR_MS: i64 = 3600 * 1000;
const USUAL_HOURS: u16 = 48;
/// A workstation is backed up hourly unless something else is said.
const USUAL_RHYTHM: i64 = 3600;
const MOST_SLOTS: usize = 16;

impl Desk {
    /// Enrolment codes, latest first.
    pub(crate) fn enrolment_codes(&self, caller: &Caller, page: &PageQuery) -> Result<Page<EnrolmentCode>> {
        caller.may(&Act::SeeOffice)?;
        let (before, now) = (cursor(page)?, self.now());
        let rows = self.records.read(|on| Ok::<_, DeskError>(CodeWithNames::list(before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.code.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::enrolment_code(row, now)).collect(), next: page.next })
    }

    pub(crate) fn issue_code(&self, caller: &Caller, new: &NewEnrolmentCode) -> Result<IssuedCode> {
        caller.may(&Act::ChangeOffice)?;
        let hours = new.hours.unwrap_or(USUAL_HOURS);
        if !(1..=720).contains(&hours) {
            return Err(DeskError::Invalid("an enrolment code lasts 1 to 720 hours".into()));
        }
        let secret: [u8; 10] = random_array(&*self.random);
        let id = new_id(&*self.random);
        let now = self.now();
        let record = self.records.write(|on| {
            let account = AccountRow::by_key(&names::key(&new.login), on)?;
            let account = account.ok_or_else(|| DeskError::Invalid(format!("there is no account '{}'", new.login)))?;
            let destination = chosen_destination(new.destination.as_deref(), on)?;
            CodeRow::insert(&id, &hash(&secret), &account.id, &destination.id, now, now + i64::from(hours) * HOUR_MS, on)?;
            self.audit(caller, "enrolment code made", &account.login, on)?;
            let row = CodeWithNames::by_id(&id, on)?.ok_or(DeskError::NotFound("enrolment code"))?;
            Ok::<_, DeskError>(convert::enrolment_code(&row, now))
        })?;
        self.events.tell(Event::Office);
        Ok(IssuedCode { code: self.invitation(secret).to_text(), record })
    }

    fn invitation(&self, secret: [u8; 10]) -> Invitation {
        let mut fingerprint = [0; 16];
        fingerprint.copy_from_slice(&self.identity.fingerprint[..16]);
        Invitation { address: format!("{}:{}", self.identity.public_name, self.identity.port), fingerprint, secret }
    }

    pub(crate) fn cancel_code(&self, caller: &Caller, id: &str) -> Result<EnrolmentCode> {
        caller.may(&Act::ChangeOffice)?;
        let now = self.now();
        let code = self.records.write(|on| {
            let row = CodeWithNames::by_id(id, on)?.ok_or(DeskError::NotFound("enrolment code"))?;
            if convert::enrolment_code(&row, now).state != CodeState::Open {
                return Err(DeskError::Conflict("only an open enrolment code can be cancelled"));
            }
            row.code.set_cancelled(now, on)?;
            self.audit(caller, "enrolment code cancelled", &row.login, on)?;
            let row = CodeWithNames::by_id(id, on)?.ok_or(DeskError::NotFound("enrolment code"))?;
            Ok(convert::enrolment_code(&row, now))
        })?;
        self.events.tell(Event::Office);
        Ok(code)
    }

    /// Turns a machine into a workstation. The code is used up only if everything else succeeded.
    pub(crate) fn enrol(&self, with: &Enrol, origin: &str) -> Result<Enrolled> {
        self.check_guesses("enrolment", origin)?;
        let name = checked_name(&with.name)?;
        let store = checked_store(with)?;
        let enrolled = self.records.write(|on| {
            let code = CodeRow::by_secret(&hash(&with.secret.0), on)?;
            let code = code.ok_or(DeskError::WrongCode("this enrolment code is not one of this service's"))?;
            self.check_open(&code)?;
            let (workstation, credential) = self.insert_workstation(&code, with, &name, on)?;
            let account = AccountRow::by_id(&code.account_id, on)?.ok_or(DeskError::NotFound("account"))?;
            let destination = DestinationRow::by_id(&code.destination_id, on)?.ok_or(DeskError::NotFound("destination"))?;
            insert_store(&store, &workstation, &destination, on)?;
            code.set_used(self.now(), &workstation.id, on)?;
            self.audit_as(&account.login, origin, "workstation enrolled", &workstation.name, on)?;
            // Last, so that a failure before leaves no directory; if this fails, nothing is recorded.
            self.make_store(&store, with, &workstation, &account, &destination)?;
            Ok(Enrolled {
                workstation: WorkstationId(workstation.id),
                name: workstation.name,
                credential,
                service: ServiceId(self.identity.service.clone()),
                account: AccountId(account.id),
                login: account.login,
                destination: DestinationId(destination.id),
                destination_name: destination.name,
            })
        });
        match &enrolled {
            Ok(enrolled) => self.workstation_changed(&enrolled.workstation.0),
            Err(DeskError::WrongCode(_)) => self.guess_failed("enrolment", origin),
            Err(_) => {}
        }
        enrolled
    }

    fn check_open(&self, code: &CodeRow) -> Result<()> {
        match (code.used, code.cancelled) {
            (Some(_), _) => Err(DeskError::WrongCode("this enrolment code has been used already")),
            (None, Some(_)) => Err(DeskError::WrongCode("this enrolment code was cancelled")),
            (None, None) if code.expires <= self.now() => Err(DeskError::WrongCode("this enrolment code has expired")),
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
            id: new_id(&*self.random),
            name_key: names::key(&name),
            name,
            account_id: code.account_id.clone(),
            credential_hash: hash(credential.as_bytes()),
            platform: with.platform.chars().take(120).collect(),
            client_version: with.client_version.chars().take(40).collect(),
            disk_bytes: with.disk_bytes.map(to_db).transpose()?,
            rhythm_seconds: USUAL_RHYTHM,
            enrolled: self.now(),
            last_seen: Some(self.now()),
            latest_run: None,
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
        let owner = serde_json::json!({
            "workstation": workstation.name, "workstation_id": workstation.id,
            "account": account.login, "person": account.display_name,
        });
        Ok(self.shelf.create(&place(destination), store, &slots, &owner.to_string())?)
    }
}

fn checked_store(with: &Enrol) -> Result<StoreFile> {
    let store = StoreFile::from_bytes(&with.store.0).map_err(jetfrost_image::store::StoreError::from)?;
    if with.slots.is_empty() || with.slots.len() > MOST_SLOTS {
        return Err(DeskError::Invalid(format!("an image store is made with 1 to {MOST_SLOTS} key slots")));
    }
    for slot in &with.slots {
        let slot = Slot::from_bytes(&slot.0).map_err(jetfrost_image::store::StoreError::from)?;
        if slot.store != store.store {
            return Err(DeskError::Invalid("a key slot belongs to another image store".into()));
        }
    }
    Ok(store)
}

fn insert_store(
    store: &StoreFile,
    workstation: &WorkstationRow,
    destination: &DestinationRow,
    on: &mut Connection,
) -> Result<()> {
    let id: StoreId = store.store;
    let row = StoreRow {
        id: id.to_string(),
        workstation_id: workstation.id.clone(),
        destination_id: destination.id.clone(),
        points: 0,
        latest_sequence: None,
        created: workstation.enrolled,
        ..StoreRow::default()
    };
    row.insert(on).map_err(|e| match is_duplicate(&e) {
        true => DeskError::Conflict("there is an image store with this id already"),
        false => e.into(),
    })
}

fn chosen_destination(name: Option<&str>, on: &mut Connection) -> Result<DestinationRow> {
    if let Some(name) = name {
        let found = DestinationRow::by_key(&names::key(name), on)?;
        return found.ok_or_else(|| DeskError::Invalid(format!("there is no destination '{name}'")));
    }
    let mut all = DestinationRow::list("", 2, on)?;
    match (all.pop(), all.pop()) {
        (Some(only), None) => Ok(only),
        (None, _) => Err(DeskError::Invalid("there is no destination yet: add one first".into())),
        (Some(_), Some(_)) => Err(DeskError::Invalid("there are several destinations: say which".into())),
    }
}

/// The name, or the name with the first number that is free.
fn free_name(name: &str, on: &mut Connection) -> Result<String> {
    let mut candidate = name.to_owned();
    let mut number = 2;
    while WorkstationRow::is_name_taken(&names::key(&candidate), on)? {
        candidate = format!("{name} ({number})");
        number += 1;
    }
    Ok(candidate)
}
