//! The five use-case services, each made with what it needs: identity ← storage ← retention ← backups ← operations.

use std::path::PathBuf;
use std::sync::Arc;

use crate::audit_heads::HeadSigner;
use crate::backups::Backups;
use crate::events::Events;
use crate::identity::Identity;
use crate::media::Media;
use crate::operations::Operations;
use crate::retention::Retention;
use crate::shared::Basis;
use crate::storage::Storage;

/// All of them.
pub(crate) struct Services {
    pub(crate) identity: Arc<Identity>,
    pub(crate) storage: Arc<Storage>,
    pub(crate) retention: Arc<Retention>,
    pub(crate) backups: Arc<Backups>,
    pub(crate) operations: Operations,
    pub(crate) events: Events,
}

impl Services {
    pub(crate) fn new(basis: &Basis, state_directory: PathBuf, heads: HeadSigner) -> Self {
        let media = Arc::new(Media::new(basis.installation.service.clone()));
        let identity = Arc::new(Identity::new(basis));
        let storage = Arc::new(Storage::new(basis, Arc::clone(&media), state_directory, heads));
        let retention = Arc::new(Retention::new(basis, Arc::clone(&media), Arc::clone(&identity), Arc::clone(&storage)));
        let backups = Arc::new(Backups::new(
            basis,
            Arc::clone(&media),
            Arc::clone(&identity),
            Arc::clone(&storage),
            Arc::clone(&retention),
        ));
        let operations = Operations::new(basis, media, Arc::clone(&identity), Arc::clone(&storage), Arc::clone(&retention));
        Self { identity, storage, retention, backups, operations, events: basis.events.clone() }
    }
}
