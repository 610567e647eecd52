//! Adopting a destination that another installation wrote, from its disk alone. Its accounts and workstations come back as
//! records; a machine claims one with an enrolment code, and opens its image store with the secret that it always had.

use std::path::PathBuf;

use jetfrost_image::store::Store;
use jetfrost_office::access::Act;
use jetfrost_office::capacity::suggested_reserve;
use jetfrost_office::names;
use jetfrost_office::protected::USUAL_DAYS;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::destination::{Adopt, Adopted, AdoptedStore, EncryptionPolicy};
use jetfrost_wire::people::{AccountKind, Role};
use jetfrost_wire::retention::{AtLimit, Retention, usual_scrub_days};
use serde::Deserialize;

use crate::clock::{Moment, timestamp};
use crate::identity::accounts::insert_account;
use crate::media::{Found, MediaError, volume_of};
use crate::records::{
    AccountRow, Asked, AtRest, Connection, Count, Days, DestinationRow, GrantScope, Id, InJson, OfficePause, PointRow, Rest,
    StoreRow, WorkstationRow, Written,
};
use crate::secrets::new_id;
use crate::shared::{Caller, Conflict, Result, ServiceError, checked_name, place, to_db};
use crate::storage::Storage;
use crate::storage::destinations::USUAL_WAITING_DAYS;
use crate::storage::points::{NewPoint, insert_point, suspicion_of};

/// Whose an image store is, as its owner file says. It was written by another installation: nothing in it is trusted to be a name.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Owner {
    workstation: String,
    account: String,
    person: String,
}

/// An image store that was found, with what it says of itself.
struct FoundStore {
    store: Store,
    workstation: String,
    login: String,
    person: String,
    /// Each with when it was committed, if that is on record.
    points: Vec<FoundPoint>,
    encrypted: bool,
}

type FoundPoint = (jetfrost_image::format::PointHead, Option<Moment>);

impl Storage {
    /// Takes a destination over, or says what would come with it.
    pub(crate) fn adopt(&self, caller: &Caller, adopt: &Adopt) -> Result<Adopted> {
        caller.may(&Act::ChangeOffice)?;
        let directory = PathBuf::from(&adopt.directory);
        let found = self.media.find(&directory, &self.directories()?)?;
        let (stores, left_out) = look_at(&found);
        let name = checked_name(adopt.name.as_deref().unwrap_or(&found.name)).unwrap_or_else(|_| "adopted".into());
        if adopt.preview {
            let stores = self.records.read(|on| stores.iter().map(|found| self.would_come(found, on)).collect::<Result<_>>())?;
            return Ok(Adopted { destination: None, name, stores, left_out });
        }
        let row = self.adopted_row(&found, name, adopt)?;
        // The marker first: from here on the other installation cannot write there any more.
        self.media.take_over(&place(&row), &row.name, &timestamp(row.created).to_string())?;
        let mut adopted = Vec::new();
        let destination = self.insert_destination(caller, row, "destination adopted", |row, on| {
            for found in &stores {
                adopted.push(self.take_store(found, row, on)?);
            }
            Ok(())
        })?;
        Ok(Adopted { name: destination.name.clone(), destination: Some(destination), stores: adopted, left_out })
    }

    fn adopted_row(&self, found: &Found, name: String, adopt: &Adopt) -> Result<DestinationRow> {
        let volume = volume_of(&PathBuf::from(&adopt.directory))
            .map_err(|source| MediaError::Io { doing: "examining the volume", source })?;
        self.records.read(|on| {
            if DestinationRow::by_key(&names::key(&name), on)?.is_some() {
                return Err(ServiceError::NameTaken(name.clone()));
            }
            let known = DestinationRow::by_id(&found.id, on)?.is_some();
            Ok(DestinationRow {
                id: Id(if known { new_id(&*self.random) } else { found.id.clone() }),
                name_key: names::key(&name),
                name,
                directory: adopt.directory.clone(),
                reserve: to_db(suggested_reserve(volume.size))?,
                created: self.clock.now(),
                // Nothing goes before somebody has looked at what came.
                retention: Written(Retention::Everything),
                at_limit: AtLimit::Stop.into(),
                waiting_days: USUAL_WAITING_DAYS,
                protected_days: Days(USUAL_DAYS),
                scrub_days: Days(usual_scrub_days()),
                granted_to: GrantScope::Chosen.into(),
                encryption: EncryptionPolicy::Required.into(),
                ..DestinationRow::default()
            })
        })
    }

    fn would_come(&self, found: &FoundStore, on: &mut Connection) -> Result<AdoptedStore> {
        let account = AccountRow::by_key(&names::key(&found.login), on)?;
        Ok(adopted(
            found,
            free_name(&found.workstation, on)?,
            account.as_ref().map_or(&found.login, |a| &a.login),
            account.is_none(),
        ))
    }

    fn take_store(&self, found: &FoundStore, destination: &DestinationRow, on: &mut Connection) -> Result<AdoptedStore> {
        let id = ImageStoreId(found.store.id().to_string());
        if StoreRow::exists(&id, on)? {
            return Err(ServiceError::Conflict(Conflict::StoreKnown));
        }
        let (account, new_account) = match AccountRow::by_key(&names::key(&found.login), on)? {
            Some(account) => (account, false),
            None => (self.account_to_be_claimed(found, on)?, true),
        };
        let (now, workstation) = (self.clock.now(), free_name(&found.workstation, on)?);
        let mut row = WorkstationRow {
            id: Id(new_id(&*self.random)),
            name_key: names::key(&workstation),
            name: workstation.clone(),
            account_id: account.id.clone(),
            credential_hash: Vec::new(),
            platform: String::new(),
            client_version: String::new(),
            disk_bytes: None,
            enrolled: now,
            last_seen: None,
            latest_run: None,
            rest: AtRest { why: Rest::Unclaimed, since: now, by: None }.into(),
            schedule: InJson::default(),
            failures: Count::ZERO,
            asked: Asked::default(),
            paused: OfficePause::default(),
        };
        row.credential_hash = WorkstationRow::no_credential(&row.id, Rest::Unclaimed);
        row.insert(on)?;
        let store = StoreRow {
            id: Id(id.clone()),
            workstation_id: row.id,
            destination_id: destination.id.clone(),
            created: now,
            encrypted: found.encrypted,
            ..StoreRow::default()
        };
        store.insert(on)?;
        for (head, committed) in &found.points {
            // What lost the record of its time counts as young, and nothing is from the future.
            let good = PointRow::last_good(&id, head.kind, to_db(head.sequence)?, on)?.map(|row| row.sequence);
            let (committed, suspicion) = (committed.unwrap_or(now).min(now), suspicion_of(&found.store, head, good));
            insert_point(&id, &NewPoint { head, committed, run: None, sent: Count::ZERO, suspicion }, on)?;
        }
        Ok(adopted(found, workstation, &account.login, new_account))
    }

    fn account_to_be_claimed(&self, found: &FoundStore, on: &mut Connection) -> Result<AccountRow> {
        let row = AccountRow {
            id: Id(new_id(&*self.random)),
            login_key: names::key(&found.login),
            login: found.login.clone(),
            display_name: found.person.clone(),
            role: Role::Member.into(),
            created: self.clock.now(),
            kind: AccountKind::Person.into(),
            ..AccountRow::default()
        };
        insert_account(&row, on)?;
        Ok(row)
    }
}

/// Opens every image store that was found, and says which cannot be.
fn look_at(found: &Found) -> (Vec<FoundStore>, Vec<String>) {
    let (mut stores, mut left_out) = (Vec::new(), Vec::new());
    for (directory, medium) in &found.stores {
        let opened = Store::open(medium.clone()).and_then(|store| {
            let found = |sequence: u64| {
                let committed = store.receipt(sequence)?.map(|receipt| Moment::from_ms(receipt.committed));
                Ok::<_, jetfrost_image::store::StoreError>((store.point_head(sequence)?, committed))
            };
            let points = store.points().into_iter().map(found).collect::<Result<Vec<_>, _>>()?;
            let encrypted = store.description()?.is_encrypted();
            Ok((store, points, encrypted))
        });
        match opened {
            Ok((store, points, encrypted)) => stores.push(FoundStore { encrypted, ..with_owner(directory, store, points) }),
            Err(error) => left_out.push(format!("{directory}: {error}")),
        }
    }
    (stores, left_out)
}

fn with_owner(directory: &str, store: Store, points: Vec<FoundPoint>) -> FoundStore {
    let owner: Owner = store.owner().ok().and_then(|json| serde_json::from_slice(&json).ok()).unwrap_or_default();
    let or = |text: &str, other: String| checked_name(text).unwrap_or(other);
    let workstation = or(&owner.workstation, format!("unknown {}", directory.chars().take(8).collect::<String>()));
    let login = or(&owner.account, format!("owner of {workstation}"));
    let person = or(&owner.person, login.clone());
    FoundStore { store, workstation, login, person, points, encrypted: true }
}

fn adopted(found: &FoundStore, workstation: String, login: &str, new_account: bool) -> AdoptedStore {
    AdoptedStore {
        workstation,
        login: login.to_owned(),
        new_account,
        points: found.points.len() as u64,
        latest: found.points.last().and_then(|(_, committed)| *committed).map(timestamp),
        bytes: found.store.used(),
    }
}

/// The name, or the name with the first number that is free.
pub(crate) fn free_name(name: &str, on: &mut Connection) -> Result<String> {
    let mut candidate = name.to_owned();
    let mut number = 2;
    while WorkstationRow::is_name_taken(&names::key(&candidate), on)? {
        candidate = format!("{name} ({number})");
        number += 1;
    }
    Ok(candidate)
}
