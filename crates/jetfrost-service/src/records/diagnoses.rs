//! What workstations found out about themselves, credentials that are over, and proofs that secrets open image stores.

use diesel::prelude::*;
use jetfrost_types::{ImageStoreId, WorkstationId, labels};
use jetfrost_wire::diagnosis::Diagnosis;
use jetfrost_wire::workstation::ProvedWith;

use super::schema::{diagnoses, former_credentials, proofs, workstations};
use super::{Connection, Id, InJson, Rows, Word};
use crate::clock::Moment;

#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = diagnoses)]
pub(crate) struct DiagnosisRow {
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) at: Moment,
    pub(crate) found: InJson<Diagnosis>,
}

impl DiagnosisRow {
    pub(crate) fn of(id: &WorkstationId, on: &mut Connection) -> Rows<Option<Self>> {
        diagnoses::table.find(id.as_str()).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(diagnoses::table).values(self).execute(on).map(drop)
    }

    /// What was found is another machine's.
    pub(crate) fn forget(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::delete(diagnoses::table.find(id.as_str())).execute(on).map(drop)
    }
}

/// Why a credential is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ended {
    /// The workstation was retired.
    Retired,
    /// Another machine took the workstation over.
    Claimed,
    /// The workstation was removed with its backups.
    Removed,
}

labels!(Ended: Retired = "retired", Claimed = "claimed", Removed = "removed");

/// A credential that a machine may still have, and that opens nothing any more.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = former_credentials)]
pub(crate) struct FormerCredentialRow {
    pub(crate) hash: Vec<u8>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) ended: Word<Ended>,
    pub(crate) at: Moment,
}

impl FormerCredentialRow {
    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(former_credentials::table).values(self).execute(on).map(drop)
    }

    /// Whose it was, by name, and why it is over.
    pub(crate) fn by_hash(hash: &[u8], on: &mut Connection) -> Rows<Option<(Self, String)>> {
        former_credentials::table
            .inner_join(workstations::table)
            .filter(former_credentials::hash.eq(hash))
            .select((Self::as_select(), workstations::name))
            .get_result(on)
            .optional()
    }
}

/// When somebody at the workstation last showed that a secret opens an image store.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = proofs)]
pub(crate) struct ProofRow {
    pub(crate) store_id: Id<ImageStoreId>,
    pub(crate) at: Moment,
    pub(crate) secret: Word<ProvedWith>,
}

impl ProofRow {
    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(proofs::table).values(self).execute(on).map(drop)
    }
}
