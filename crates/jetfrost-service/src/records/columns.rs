//! What columns hold: enumerations by their words, rules as people write them, ids, moments, sizes and days. Anything else in a column is an error,
//! which Diesel gives with the column's name; nothing is read as something else.

use std::error::Error;
use std::fmt::{self, Debug, Display, Formatter};
use std::ops::{Add, Deref};
use std::str::FromStr;

use diesel::deserialize::{FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::serialize::{IsNull, Output, ToSql};
use diesel::sql_types::{BigInt, Integer, Text};
use diesel::sqlite::{Sqlite, SqliteValue};
use diesel::{deserialize, serialize};
use jetfrost_types::TextId;
use jetfrost_wire::labels::Label;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::clock::{DAY_MS, Moment};

/// A value of an enumeration, as it is in a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub(crate) struct Word<T: Label>(pub(crate) T);

impl<T: Label + Default> Default for Word<T> {
    fn default() -> Self {
        Self(T::default())
    }
}

impl<T: Label> From<T> for Word<T> {
    fn from(value: T) -> Self {
        Self(value)
    }
}

impl<T: Label> FromSql<Text, Sqlite> for Word<T> {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        let word = <String as FromSql<Text, Sqlite>>::from_sql(value)?;
        T::from_word(&word).map(Self).ok_or_else(|| format!("'{word}' is none of its words").into())
    }
}

impl<T: Label> ToSql<Text, Sqlite> for Word<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.0.word());
        Ok(IsNull::No)
    }
}

/// A value as people write it, in a column of text.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub(crate) struct Written<T: Debug>(pub(crate) T);

impl<T: Debug + FromStr> FromSql<Text, Sqlite> for Written<T>
where
    T::Err: Error + Send + Sync + 'static,
{
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        Ok(Self(<String as FromSql<Text, Sqlite>>::from_sql(value)?.parse()?))
    }
}

impl<T: Debug + Display> ToSql<Text, Sqlite> for Written<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.0.to_string());
        Ok(IsNull::No)
    }
}

/// A value in the JSON that the API has for it, in a column of text.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub(crate) struct InJson<T: Debug>(pub(crate) T);

impl<T: Debug + DeserializeOwned> FromSql<Text, Sqlite> for InJson<T> {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        Ok(Self(serde_json::from_str(&<String as FromSql<Text, Sqlite>>::from_sql(value)?)?))
    }
}

impl<T: Debug + Serialize> ToSql<Text, Sqlite> for InJson<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(serde_json::to_string(&self.0)?);
        Ok(IsNull::No)
    }
}

/// The id of a row, as the API has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub(crate) struct Id<T>(pub(crate) T);

impl<T> Deref for Id<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T> From<T> for Id<T> {
    fn from(id: T) -> Self {
        Self(id)
    }
}

impl<T: Display> Display for Id<T> {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl<T: TextId> FromSql<Text, Sqlite> for Id<T> {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        Ok(Self(<String as FromSql<Text, Sqlite>>::from_sql(value)?.into()))
    }
}

impl<T: TextId + Debug> ToSql<Text, Sqlite> for Id<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.0.as_str());
        Ok(IsNull::No)
    }
}

/// A size in bytes, a number of things, or the number of a point: never below zero.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, AsExpression, FromSqlRow, serde::Serialize)]
#[diesel(sql_type = BigInt)]
pub(crate) struct Count(i64);

impl Count {
    pub(crate) const ZERO: Self = Self(0);
    pub(crate) const ONE: Self = Self(1);

    /// None where it is more than a column holds.
    pub(crate) fn new(count: u64) -> Option<Self> {
        i64::try_from(count).ok().map(Self)
    }

    pub(crate) fn get(self) -> u64 {
        self.0.unsigned_abs()
    }
}

impl Add for Count {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl FromSql<BigInt, Sqlite> for Count {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        let count = <i64 as FromSql<BigInt, Sqlite>>::from_sql(value)?;
        if count < 0 { Err(format!("{count} is below zero").into()) } else { Ok(Self(count)) }
    }
}

impl ToSql<BigInt, Sqlite> for Count {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.0);
        Ok(IsNull::No)
    }
}

impl FromSql<BigInt, Sqlite> for Moment {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        let ms = <i64 as FromSql<BigInt, Sqlite>>::from_sql(value)?;
        Some(Self::from_ms(ms))
            .filter(|moment| moment.ms() == ms)
            .ok_or_else(|| format!("{ms} is no moment of the years 1970 to 9999").into())
    }
}

impl ToSql<BigInt, Sqlite> for Moment {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.ms());
        Ok(IsNull::No)
    }
}

/// Days for which something waits, or after which it comes again.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, AsExpression, FromSqlRow, serde::Serialize)]
#[diesel(sql_type = BigInt)]
pub(crate) struct Days(pub(crate) u32);

impl Days {
    /// So many milliseconds.
    pub(crate) fn ms(self) -> i64 {
        i64::from(self.0) * DAY_MS
    }
}

impl FromSql<BigInt, Sqlite> for Days {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        Ok(Self(<i64 as FromSql<BigInt, Sqlite>>::from_sql(value)?.try_into()?))
    }
}

impl ToSql<BigInt, Sqlite> for Days {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(i64::from(self.0));
        Ok(IsNull::No)
    }
}

/// The number of a TCP port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Integer)]
pub(crate) struct Port(pub(crate) u16);

impl FromSql<Integer, Sqlite> for Port {
    fn from_sql(value: SqliteValue<'_, '_, '_>) -> deserialize::Result<Self> {
        Ok(Self(<i32 as FromSql<Integer, Sqlite>>::from_sql(value)?.try_into()?))
    }
}

impl ToSql<Integer, Sqlite> for Port {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(i32::from(self.0));
        Ok(IsNull::No)
    }
}
