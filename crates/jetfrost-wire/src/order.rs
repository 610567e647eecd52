//! Orders: restores that somebody asks a workstation's agent to do. The service carries them and cannot read them.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::labels::labels;
use crate::{Binary, RestoreId, RestoreOrderId, WorkstationId};

/// The state of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OrderState {
    /// The agent has not taken it up.
    Waiting,
    /// The agent asks the person at the workstation.
    Asking,
    /// It is being carried out.
    Underway,
    /// It was carried out; its restore says with what exceptions.
    Done,
    /// The workstation declined it: its person did, or its settings do.
    Declined,
    /// It could not be carried out.
    Failed,
    /// It was withdrawn by somebody who may give orders.
    Withdrawn,
    /// Its time was over before it was begun.
    Expired,
}

labels!(OrderState: Waiting = "waiting", Asking = "asking", Underway = "underway", Done = "done", Declined = "declined",
    Failed = "failed", Withdrawn = "withdrawn", Expired = "expired");

impl OrderState {
    /// Whether this state is final.
    #[must_use]
    pub fn has_ended(self) -> bool {
        !matches!(self, Self::Waiting | Self::Asking | Self::Underway)
    }
}

/// An order of a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RestoreOrder {
    /// The order.
    pub id: RestoreOrderId,
    /// The workstation that is to carry it out.
    pub workstation: WorkstationId,
    /// Login name of the account that gave it.
    pub by: String,
    /// The address that it was given from.
    pub origin: String,
    /// Its state.
    pub state: OrderState,
    /// When it was given.
    pub created: Timestamp,
    /// When it is no longer to be begun.
    pub expires: Timestamp,
    /// The restore that carries it out.
    pub restore: Option<RestoreId>,
    /// Why it was declined or failed, or what was not restored exactly, in a sentence; by whom it was withdrawn.
    pub reason: Option<String>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// What it says, sealed with the workstation's store key; gone once it has ended.
    pub sealed: Option<Binary>,
}

/// Gives an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewOrder {
    /// What it says, sealed with the workstation's store key.
    pub sealed: Binary,
}

/// Lists orders.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct OrderQuery {
    /// Only those that have not ended.
    #[serde(default)]
    pub open: bool,
    /// `next` of the previous page.
    pub after: Option<String>,
    /// Entries per page, 1 to 500; 100 by default.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

/// What a workstation says of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OrderAnswer {
    /// Its person is asked.
    Asking,
    /// It was carried out.
    Done,
    /// It was declined.
    Declined,
    /// It could not be carried out.
    Failed,
}

/// Says what became of an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnswerOrder {
    /// What became of it.
    pub answer: OrderAnswer,
    /// Why it was declined or failed, or what was not restored exactly, in a sentence without names of files.
    pub reason: Option<String>,
}
