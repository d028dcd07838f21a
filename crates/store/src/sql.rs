//! Statements written by hand, prepared once per connection.
//!
//! Diesel's own `sql_query` is prepared anew on every call, since it cannot know that its text
//! does not change from call to call. The texts here come from a small fixed set, so that the
//! server parses and plans each of them once.

use std::marker::PhantomData;

use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::serialize::ToSql;
use diesel::sql_types::{HasSqlType, Untyped};

/// A statement and its values, `$1` first.
pub(crate) struct Sql {
    text: String,
    values: Vec<Box<dyn QueryFragment<Pg> + Send>>,
}

struct Value<S, T>(T, PhantomData<fn() -> S>);

impl<S, T> QueryFragment<Pg> for Value<S, T>
where
    Pg: HasSqlType<S>,
    T: ToSql<S, Pg>,
{
    fn walk_ast<'b>(&'b self, mut pass: AstPass<'_, 'b, Pg>) -> diesel::QueryResult<()> {
        pass.push_bind_param_value_only::<S, T>(&self.0)
    }
}

/// A statement of a fixed text.
pub(crate) fn statement(text: impl Into<String>) -> Sql {
    Sql {
        text: text.into(),
        values: vec![],
    }
}

impl Sql {
    /// Gives the next value.
    pub(crate) fn bind<S, T>(mut self, value: T) -> Self
    where
        S: 'static,
        Pg: HasSqlType<S>,
        T: ToSql<S, Pg> + Send + 'static,
    {
        self.values
            .push(Box::new(Value::<S, T>(value, PhantomData)));
        self
    }
}

impl QueryFragment<Pg> for Sql {
    fn walk_ast<'b>(&'b self, mut pass: AstPass<'_, 'b, Pg>) -> diesel::QueryResult<()> {
        pass.push_sql(&self.text);
        for value in &self.values {
            value.walk_ast(pass.reborrow())?;
        }
        Ok(())
    }
}

impl QueryId for Sql {
    type QueryId = ();
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl Query for Sql {
    type SqlType = Untyped;
}
