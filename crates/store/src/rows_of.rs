//! Rows of SQL functions, asked for with the types that `schema` declares.

use diesel::expression::Expression;
use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::{QueryResult, SelectableExpression, Table};

use crate::schema::Rows;

/// `SELECT columns FROM function(…) AS row`. Diesel knows functions that return one value, and
/// tables; this makes a table of a function, and checks the types of its arguments and its columns
/// all the same.
///
/// ```text
/// rows_of(tags_for(person, now), tag_row::table, tag_row::all_columns)
/// SELECT "tag_row"."tag", "tag_row"."times" FROM "tags_for"($1, $2) AS "tag_row"
/// ```
#[derive(Clone, Copy, Debug, QueryId)]
pub(crate) struct RowsOf<F, T, S> {
    function: F,
    row: T,
    columns: S,
}

/// Columns of the rows that a function returns.
pub(crate) const fn rows_of<F, T, S>(function: F, row: T, columns: S) -> RowsOf<F, T, S>
where
    F: Expression<SqlType = Rows>,
    T: Table,
    S: SelectableExpression<T>,
{
    RowsOf {
        function,
        row,
        columns,
    }
}

impl<F, T, S> QueryFragment<Pg> for RowsOf<F, T, S>
where
    F: QueryFragment<Pg>,
    T: QueryFragment<Pg>,
    S: QueryFragment<Pg>,
{
    fn walk_ast<'b>(&'b self, mut pass: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        pass.push_sql("SELECT ");
        self.columns.walk_ast(pass.reborrow())?;
        pass.push_sql(" FROM ");
        self.function.walk_ast(pass.reborrow())?;
        pass.push_sql(" AS ");
        self.row.walk_ast(pass)
    }
}

impl<F, T, S: Expression> Query for RowsOf<F, T, S> {
    type SqlType = S::SqlType;
}
