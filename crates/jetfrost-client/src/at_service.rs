//! Any workstation's image store at the service, as a person who is signed in reads it: from another machine, with one of its secrets.

use jetfrost_wire::workstation::Workstation;

use crate::api::Api;
use crate::browse::Browser;
use crate::error::ClientError;
use crate::salvage::{Opening, StoreKeys};
use crate::store_source::{StoreOf, StoreSource};
use crate::unlock_methods::slots;

/// An image store at the service, without its key.
#[derive(Clone)]
pub struct StoreAtService {
    api: Api,
    of: StoreOf,
}

impl StoreAtService {
    /// The image store of a workstation, for whoever `api` is signed in as.
    #[must_use]
    pub fn new(api: Api, workstation: &Workstation) -> Self {
        let of = StoreOf {
            store: workstation.store.id.to_string(),
            workstation: workstation.id.to_string(),
            name: workstation.name.clone(),
            is_own: false,
        };
        Self { api, of }
    }

    /// Its key, by something that opens it. The service gets none of it.
    ///
    /// # Errors
    /// [`ClientError::WrongPassphrase`] or [`ClientError::DamagedSlots`] when none of its slots is opened; [`ClientError::WeakSlot`].
    pub fn unlock(&self, opening: &Opening<'_>) -> Result<StoreKeys, ClientError> {
        let store = self.of.store.parse().map_err(|_| ClientError::Unexpected("an image store without a sound id".into()))?;
        let (slots, damaged) = slots(&self.api, &self.of.store)?;
        let key = slots.iter().find_map(|slot| opening.open(slot).ok()).ok_or_else(|| ClientError::wrong_secret(damaged))?;
        Ok(StoreKeys::derive(store, &key))
    }

    /// Looks into it with its key.
    #[must_use]
    pub fn browse(self, keys: StoreKeys) -> Browser {
        Browser { source: StoreSource::Service { api: self.api, of: Box::new(self.of) }, keys }
    }
}
