//! What agents of workstations reported last.

use diesel::prelude::*;
use jetfrost_types::WorkstationId;

use crate::clock::Moment;
use crate::records::joint::AgentDelay;
use crate::records::schema::agents;
use crate::records::{Connection, Id, Rows};

#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = agents, treat_none_as_null = true)]
pub(crate) struct AgentRow {
    pub(crate) workstation_id: Id<WorkstationId>,
    /// When it reported, by the service's clock.
    pub(crate) seen: Moment,
    /// When its next run is due.
    pub(crate) due: Option<Moment>,
    /// What is in the way of a run that is due.
    #[diesel(embed)]
    pub(crate) delay: AgentDelay,
}

impl AgentRow {
    pub(crate) fn of(id: &WorkstationId, on: &mut Connection) -> Rows<Option<Self>> {
        agents::table.find(id.as_str()).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(agents::table)
            .values(self)
            .on_conflict(agents::workstation_id)
            .do_update()
            .set(self)
            .execute(on)
            .map(drop)
    }

    /// The agent is another machine's from now on, or nobody's.
    pub(crate) fn forget(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::delete(agents::table.find(id.as_str())).execute(on).map(drop)
    }
}
