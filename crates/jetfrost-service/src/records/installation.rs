//! What there is one of: the installation and its switches.

use super::schema::installation;
use super::{Connection, Count, Rows, Word};
use diesel::prelude::*;
use jetfrost_types::labels;
use jetfrost_wire::size::Units;

use crate::clock::Moment;

/// The installation's id, made at first start.
pub(crate) fn installation_id(on: &mut Connection) -> Rows<Option<String>> {
    installation::table.select(installation::id).get_result(on).optional()
}

pub(crate) fn insert_installation(id: &str, created: Moment, on: &mut Connection) -> Rows<()> {
    diesel::insert_into(installation::table)
        .values((installation::id.eq(id), installation::created.eq(created)))
        .execute(on)
        .map(drop)
}

/// Writes what is there already: whether anything can be written.
pub(crate) fn write_nothing_new(on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::id.eq(installation::id)).execute(on).map(drop)
}

pub(crate) fn first_code_hash(on: &mut Connection) -> Rows<Option<Vec<u8>>> {
    installation::table.select(installation::first_code_hash).get_result(on)
}

pub(crate) fn set_first_code_hash(hash: Option<&[u8]>, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::first_code_hash.eq(hash)).execute(on).map(drop)
}

/// The public half of the office key and since when it is asked for.
pub(crate) fn escrow(on: &mut Connection) -> Rows<Option<(Vec<u8>, Moment)>> {
    let found: Option<(Option<Vec<u8>>, Option<Moment>)> =
        installation::table.select((installation::escrow_key, installation::escrow_since)).get_result(on).optional()?;
    Ok(found.and_then(|(key, since)| key.zip(since)))
}

/// The public half of the office key, whether or not workstations are asked to trust it.
pub(crate) fn office_key(on: &mut Connection) -> Rows<Option<Vec<u8>>> {
    installation::table.select(installation::escrow_key).get_result(on)
}

/// Sets the office key, and since when workstations are asked to trust it, if they are.
pub(crate) fn set_office_key(key: &[u8], asked_since: Option<Moment>, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table)
        .set((installation::escrow_key.eq(key), installation::escrow_since.eq(asked_since)))
        .execute(on)
        .map(drop)
}

/// Asks workstations no more. The service's own records are still copied for the office key.
pub(crate) fn end_escrow(on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::escrow_since.eq(None::<Moment>)).execute(on).map(drop)
}

/// Whether new backups are accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Accepting {
    /// They are.
    On,
    /// Not until a time.
    Paused,
    /// They are not.
    Off,
}

labels!(Accepting: On = "on", Paused = "paused", Off = "off");

/// Whether new backups and restores are accepted.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, AsChangeset)]
#[diesel(table_name = installation, treat_none_as_null = true)]
pub(crate) struct Switches {
    pub(crate) new_backups: Word<Accepting>,
    pub(crate) paused_until: Option<Moment>,
    pub(crate) restores_stopped: bool,
}

impl Switches {
    pub(crate) fn get(on: &mut Connection) -> Rows<Self> {
        installation::table.select(Self::as_select()).get_result(on)
    }

    pub(crate) fn set(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(installation::table).set(self).execute(on).map(drop)
    }
}

/// How the service announces itself.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, AsChangeset)]
#[diesel(table_name = installation, treat_none_as_null = true)]
pub(crate) struct DiscoveryRow {
    pub(crate) announcing: bool,
    pub(crate) announced_as: Option<String>,
    /// Names of interfaces with commas between them; none for all.
    pub(crate) announced_on: String,
}

impl DiscoveryRow {
    pub(crate) fn get(on: &mut Connection) -> Rows<Self> {
        installation::table.select(Self::as_select()).get_result(on)
    }

    pub(crate) fn set(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(installation::table).set(self).execute(on).map(drop)
    }

    /// The interfaces that were chosen; none for all.
    pub(crate) fn chosen(&self) -> Vec<String> {
        self.announced_on.split(',').filter(|name| !name.is_empty()).map(str::to_owned).collect()
    }
}

/// The units in which sizes are shown.
pub(crate) fn units(on: &mut Connection) -> Rows<Units> {
    installation::table.select(installation::units).get_result(on).map(|Word(units)| units)
}

/// How many runs an administrator lets go on at once, if they said so.
pub(crate) fn runs_at_once(on: &mut Connection) -> Rows<Option<Count>> {
    installation::table.select(installation::runs_at_once).get_result(on)
}

/// Whether people may make workstations of their own machines.
pub(crate) fn own_machines(on: &mut Connection) -> Rows<bool> {
    installation::table.select(installation::own_machines).get_result(on)
}

pub(crate) fn set_own_machines(to: bool, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::own_machines.eq(to)).execute(on).map(drop)
}

pub(crate) fn set_runs_at_once(to: Option<Count>, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::runs_at_once.eq(to)).execute(on).map(drop)
}

pub(crate) fn set_units(units: Units, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::units.eq(units.word())).execute(on).map(drop)
}

/// When something was last changed that a copy of the records should know.
pub(crate) fn important_change(on: &mut Connection) -> Rows<Option<Moment>> {
    installation::table.select(installation::important_change).get_result(on)
}

pub(crate) fn set_important_change(at: Moment, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::important_change.eq(at)).execute(on).map(drop)
}
