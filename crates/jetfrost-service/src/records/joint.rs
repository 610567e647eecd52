//! Columns that are one value: all of them hold something, or none does. Half a value is an error, never read as none; triggers of the
//! schema keep it out in the first place.

use jetfrost_wire::point::Hold;
use std::ops::{Deref, DerefMut};

use diesel::deserialize::{self, Queryable};
use diesel::dsl::Eq;
use diesel::expression::Expression;
use diesel::prelude::*;
use diesel::sqlite::Sqlite;
use jetfrost_types::{DelayReason, PointMark, labels};

use super::Word;
use super::schema::{accounts, agents, destinations, points, stores, workstations};

use crate::clock::Moment;

/// A value that has several columns.
pub(crate) trait Joint: Sized {
    /// What is in the columns, in their order.
    type Columns;

    /// The value; none when every column is empty. An error when they do not belong together.
    fn join(columns: Self::Columns) -> Result<Option<Self>, HalfThere>;

    fn split(value: Option<&Self>) -> Self::Columns;
}

/// Columns that are one value and do not belong together.
#[derive(Debug, thiserror::Error)]
#[error("half of a value is there, and half is not")]
pub(crate) struct HalfThere;

/// Makes a type for the columns of a table that are one value: `joint!(Name: Value, table { column: RustType, … })`.
macro_rules! joint {
    ($(#[$doc:meta])* $name:ident: $value:ty, $table:ident { $($column:ident: $in_rust:ty),+ }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Default, PartialEq, Eq)]
        pub(crate) struct $name(pub(crate) Option<$value>);

        impl Deref for $name {
            type Target = Option<$value>;

            fn deref(&self) -> &Self::Target {
                &self.0
            }
        }

        impl DerefMut for $name {
            fn deref_mut(&mut self) -> &mut Self::Target {
                &mut self.0
            }
        }

        impl From<$value> for $name {
            fn from(value: $value) -> Self {
                Self(Some(value))
            }
        }

        impl Queryable<($(<$table::$column as Expression>::SqlType,)+), Sqlite> for $name {
            type Row = <$value as Joint>::Columns;

            fn build(row: Self::Row) -> deserialize::Result<Self> {
                let named = |error| format!("{}: {error}", concat!(stringify!($table), $(" ", stringify!($column)),+));
                <$value>::join(row).map(Self).map_err(|error| named(error).into())
            }
        }

        impl Selectable<Sqlite> for $name {
            type SelectExpression = ($($table::$column,)+);

            fn construct_selection() -> Self::SelectExpression {
                ($($table::$column,)+)
            }
        }

        impl Insertable<$table::table> for $name {
            type Values = <($(Eq<$table::$column, Option<$in_rust>>,)+) as Insertable<$table::table>>::Values;

            fn values(self) -> Self::Values {
                let ($($column,)+) = <$value>::split(self.as_ref());
                ($($table::$column.eq($column),)+).values()
            }
        }

        impl Insertable<$table::table> for &$name {
            type Values = <$name as Insertable<$table::table>>::Values;

            fn values(self) -> Self::Values {
                self.clone().values()
            }
        }

        impl AsChangeset for &$name {
            type Target = $table::table;
            type Changeset = <$name as AsChangeset>::Changeset;

            fn as_changeset(self) -> Self::Changeset {
                self.clone().as_changeset()
            }
        }

        impl AsChangeset for $name {
            type Target = $table::table;
            type Changeset = <($(Eq<$table::$column, Option<$in_rust>>,)+) as AsChangeset>::Changeset;

            fn as_changeset(self) -> Self::Changeset {
                let ($($column,)+) = <$value>::split(self.as_ref());
                ($($table::$column.eq($column),)+).as_changeset()
            }
        }
    };
}

/// Two columns, both of which hold something or neither does.
fn both<A, B>(first: Option<A>, second: Option<B>) -> Result<Option<(A, B)>, HalfThere> {
    match (first, second) {
        (None, None) => Ok(None),
        (Some(first), Some(second)) => Ok(Some((first, second))),
        _ => Err(HalfThere),
    }
}

impl Joint for Hold {
    type Columns = (Option<String>, Option<String>);

    fn join((reason, by): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(reason, by)?.map(|(reason, by)| Self { reason, by }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.cloned().map(|hold| (hold.reason, hold.by)).unzip()
    }
}

/// What a person removed, until it goes for good.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Removal {
    /// When it goes, unless it is protected for longer.
    pub(crate) ends: Moment,
    pub(crate) by: String,
}

/// What a person found out about a point.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct GivenMark {
    pub(crate) mark: PointMark,
    pub(crate) reason: String,
    pub(crate) by: String,
    pub(crate) at: Moment,
}

impl Joint for GivenMark {
    type Columns = (Option<Word<PointMark>>, Option<String>, Option<String>, Option<Moment>);

    fn join((mark, reason, by, at): Self::Columns) -> Result<Option<Self>, HalfThere> {
        match (both(mark, reason)?, both(by, at)?) {
            (Some((mark, reason)), Some((by, at))) => Ok(Some(Self { mark: mark.0, reason, by, at })),
            (None, None) => Ok(None),
            _ => Err(HalfThere),
        }
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        match value.cloned() {
            Some(Self { mark, reason, by, at }) => (Some(mark.into()), Some(reason), Some(by), Some(at)),
            None => (None, None, None, None),
        }
    }
}

impl Joint for Removal {
    type Columns = (Option<Moment>, Option<String>);

    fn join((ends, by): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(ends, by)?.map(|(ends, by)| Self { ends, by }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.cloned().map(|removal| (removal.ends, removal.by)).unzip()
    }
}

/// What somebody did that is still so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Deed {
    pub(crate) at: Moment,
    pub(crate) by: String,
}

impl Joint for Deed {
    type Columns = (Option<Moment>, Option<String>);

    fn join((at, by): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(at, by)?.map(|(at, by)| Self { at, by }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.cloned().map(|deed| (deed.at, deed.by)).unzip()
    }
}

/// What an administrator paused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Pause {
    pub(crate) until: Moment,
    pub(crate) by: String,
}

impl Joint for Pause {
    type Columns = (Option<Moment>, Option<String>);

    fn join((until, by): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(until, by)?.map(|(until, by)| Self { until, by }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.cloned().map(|pause| (pause.until, pause.by)).unzip()
    }
}

/// What happened last, and in words what it was or why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Noted {
    pub(crate) at: Moment,
    pub(crate) what: String,
}

impl Joint for Noted {
    type Columns = (Option<Moment>, Option<String>);

    fn join((at, what): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(at, what)?.map(|(at, what)| Self { at, what }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.cloned().map(|noted| (noted.at, noted.what)).unzip()
    }
}

/// Why no machine has the credential of a workstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Rest {
    /// Somebody cut its machine off.
    Retired,
    /// It was adopted with its destination, and no machine claimed it yet.
    Unclaimed,
}

labels!(Rest: Retired = "retired", Unclaimed = "unclaimed");

/// A workstation without a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct AtRest {
    pub(crate) why: Rest,
    pub(crate) since: Moment,
    /// Who cut it off; nobody did when it was adopted.
    pub(crate) by: Option<String>,
}

impl Joint for AtRest {
    type Columns = (Option<Word<Rest>>, Option<Moment>, Option<String>);

    fn join((why, since, by): Self::Columns) -> Result<Option<Self>, HalfThere> {
        match (both(why, since)?, by) {
            (Some((why, since)), by) => Ok(Some(Self { why: why.0, since, by })),
            (None, None) => Ok(None),
            (None, Some(_)) => Err(HalfThere),
        }
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        let by = value.and_then(|rest| rest.by.clone());
        (value.map(|rest| rest.why.into()), value.map(|rest| rest.since), by)
    }
}

/// What an agent finds in the way of a run that is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Noticed {
    pub(crate) reason: DelayReason,
    pub(crate) since: Moment,
}

impl Joint for Noticed {
    type Columns = (Option<Word<DelayReason>>, Option<Moment>);

    fn join((reason, since): Self::Columns) -> Result<Option<Self>, HalfThere> {
        Ok(both(reason, since)?.map(|(reason, since)| Self { reason: reason.0, since }))
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        value.map(|noticed| (noticed.reason.into(), noticed.since)).unzip()
    }
}

/// How far the erasure of a destination has come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Erasing {
    /// Asked for; the second confirmation says `confirmation`.
    Asked { confirmation: String, by: String },
    /// Confirmed; all of it goes at `ends`.
    Confirmed { ends: Moment, by: String },
}

impl Erasing {
    /// Who asked for it, or confirmed it.
    pub(crate) fn by(&self) -> &str {
        match self {
            Self::Asked { by, .. } | Self::Confirmed { by, .. } => by,
        }
    }

    /// When all of it goes, once that is confirmed.
    pub(crate) fn ends(&self) -> Option<Moment> {
        match self {
            Self::Asked { .. } => None,
            Self::Confirmed { ends, .. } => Some(*ends),
        }
    }
}

impl Joint for Erasing {
    type Columns = (Option<String>, Option<Moment>, Option<String>);

    fn join(columns: Self::Columns) -> Result<Option<Self>, HalfThere> {
        match columns {
            (None, None, None) => Ok(None),
            (Some(confirmation), None, Some(by)) => Ok(Some(Self::Asked { confirmation, by })),
            (None, Some(ends), Some(by)) => Ok(Some(Self::Confirmed { ends, by })),
            _ => Err(HalfThere),
        }
    }

    fn split(value: Option<&Self>) -> Self::Columns {
        match value.cloned() {
            None => (None, None, None),
            Some(Self::Asked { confirmation, by }) => (Some(confirmation), None, Some(by)),
            Some(Self::Confirmed { ends, by }) => (None, Some(ends), Some(by)),
        }
    }
}

joint!(
    /// The hold on a point.
    PointHold: Hold, points { held: String, held_by: String }
);
joint!(
    /// The hold on an image store.
    StoreHold: Hold, stores { held: String, held_by: String }
);
joint!(
    /// The pending removal of a point.
    PointRemoval: Removal, points { removal_ends: Moment, removal_by: String }
);
joint!(
    /// The pending removal of an image store.
    StoreRemoval: Removal, stores { removal_ends: Moment, removal_by: String }
);
joint!(
    /// What a person found out about a point.
    PointMarked: GivenMark, points { mark: Word<PointMark>, mark_reason: String, mark_by: String, marked: Moment }
);
joint!(
    /// When a point went, and why.
    PointGone: Noted, points { gone: Moment, gone_why: String }
);
joint!(
    /// When points of an image store last went to make room at a limit, and which.
    StoreRoomMade: Noted, stores { room_made: Moment, room_made_of: String }
);
joint!(
    /// When an image store's own terms were last made shorter, and how.
    StoreShortened: Noted, stores { shortened: Moment, shortened_how: String }
);
joint!(
    /// When a destination's terms were last made shorter, and how.
    DestinationShortened: Noted, destinations { shortened: Moment, shortened_how: String }
);
joint!(
    /// When a destination was withdrawn, and by whom.
    Withdrawn: Deed, destinations { withdrawn: Moment, withdrawn_by: String }
);
joint!(
    /// Since when an account is disabled, and by whom.
    Disabled: Deed, accounts { disabled: Moment, disabled_by: String }
);
joint!(
    /// How far the erasure of a destination has come.
    Erasure: Erasing, destinations { erase_asked: String, erases: Moment, erasing_by: String }
);
joint!(
    /// What an agent finds in the way of a run that is due, and since when.
    AgentDelay: Noticed, agents { delay: Word<DelayReason>, delayed: Moment }
);
joint!(
    /// When an administrator asked for a backup that has not begun yet, and who.
    Asked: Deed, workstations { asked: Moment, asked_by: String }
);
joint!(
    /// Until when an administrator paused a workstation, and who.
    OfficePause: Pause, workstations { paused_until: Moment, paused_by: String }
);
joint!(
    /// Why no machine has the credential of a workstation, since when and by whom.
    WorkstationRest: AtRest, workstations { rest: Word<Rest>, rest_since: Moment, rest_by: String }
);
