//! Enumerations and rules in the records: by their words, and by no others. What a column holds that is no word of its enumeration is an
//! error, which Diesel gives with the column's name; nothing is read as something else.

use std::error::Error;
use std::fmt::{Debug, Display};
use std::str::FromStr;

use diesel::deserialize::{FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::serialize::{IsNull, Output, ToSql};
use diesel::sql_types::Text;
use diesel::sqlite::{Sqlite, SqliteValue};
use diesel::{deserialize, serialize};
use jetfrost_wire::labels::Label;

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
