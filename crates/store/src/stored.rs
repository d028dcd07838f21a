//! Values of enumerations in columns: the word of each is what a row has.

use std::io::Write as _;

use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::pg::{Pg, PgValue};
use diesel::serialize::{self, IsNull, Output, ToSql};
use diesel::sql_types::Text;
use jexlin_core::words::Word;

/// A value whose word is in a column of type `text`. A word that stands for none is an error when
/// it is read; the tables refuse it before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub struct Stored<E: std::fmt::Debug>(pub E);

impl<E: Word + std::fmt::Debug> ToSql<Text, Pg> for Stored<E> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        out.write_all(self.0.word().as_bytes())?;
        Ok(IsNull::No)
    }
}

impl<E: Word + std::fmt::Debug> FromSql<Text, Pg> for Stored<E> {
    fn from_sql(bytes: PgValue<'_>) -> deserialize::Result<Self> {
        let word = <String as FromSql<Text, Pg>>::from_sql(bytes)?;
        E::find(&word)
            .map(Self)
            .ok_or_else(|| format!("`{word}` is not one of {}", E::words()).into())
    }
}

impl<E: std::fmt::Debug> From<E> for Stored<E> {
    fn from(value: E) -> Self {
        Self(value)
    }
}

impl<E: PartialEq + std::fmt::Debug> PartialEq<E> for Stored<E> {
    fn eq(&self, other: &E) -> bool {
        self.0 == *other
    }
}

impl<E: std::fmt::Display + std::fmt::Debug> std::fmt::Display for Stored<E> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        std::fmt::Display::fmt(&self.0, f)
    }
}
