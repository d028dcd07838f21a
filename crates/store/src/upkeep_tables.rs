//! Parts of the tables of accounts and jobs, as somebody sees them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::{AccountSort, JobSort};
use jexlin_core::words::Word as _;
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::credential_lists::part;
use crate::rows_of::rows_of;
use crate::schema::{account_table, checks_counted, checks_row, found_row, job_table, upkeep_view};
use crate::{JobView, Result, Tx, UpkeepView};

/// Which rows of a table are wanted. Texts are parts, in any case.
#[derive(Clone, Debug, Default)]
pub struct TableFilter {
    /// Only those that hold each of these words.
    pub find: Vec<String>,
    /// Only with this in the path of their credential.
    pub credential: Option<String>,
    /// Only with this in the name of their device.
    pub device: Option<String>,
    /// Only those of which this column is exactly this.
    pub exactly: Vec<(&'static str, String)>,
}

/// Which part of a table, and in which order all of it is.
#[derive(Clone, Copy, Debug)]
pub struct TableOrder<S> {
    /// By this.
    pub sort: S,
    /// In descending order.
    pub down: bool,
    /// How many rows come before this part.
    pub from: i64,
    /// The most rows of this part.
    pub limit: i64,
}

impl TableFilter {
    /// What the functions of the database are told to look for.
    fn wanted(&self, sort: &str, down: bool) -> Value {
        let words = self.find.iter().map(|word| part(word).into()).collect();
        let mut wanted = Map::from_iter([
            ("words".to_owned(), Value::Array(words)),
            ("sort".to_owned(), sort.into()),
            ("down".to_owned(), down.into()),
        ]);
        let texts = [("credential", &self.credential), ("device", &self.device)];
        for (name, text) in texts {
            if let Some(text) = text {
                wanted.insert(name.to_owned(), part(text).into());
            }
        }
        for (name, value) in &self.exactly {
            wanted.insert((*name).to_owned(), value.as_str().into());
        }
        Value::Object(wanted)
    }
}

/// How many rows the whole table has.
fn total_of(found: &[(Uuid, i64)]) -> i64 {
    <[_]>::first(found).map_or(0, |(_, total)| *total)
}

/// The rows in the order in which they were found.
fn in_order<R>(found: &[(Uuid, i64)], rows: Vec<R>, id: impl Fn(&R) -> Uuid) -> Vec<R> {
    let mut by_id: HashMap<Uuid, R> = rows.into_iter().map(|row| (id(&row), row)).collect();
    found
        .iter()
        .filter_map(|(id, _)| by_id.remove(id))
        .collect()
}

impl Tx {
    /// A part of the table of the accounts that somebody may know of, and how many rows all of it
    /// has; that is 0 when nothing is found after `from`.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn account_table(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<AccountSort>,
    ) -> Result<(i64, Vec<UpkeepView>)> {
        let wanted = filter.wanted(order.sort.word(), order.down);
        let query = rows_of(
            account_table(person, now, wanted, order.from, order.limit),
            found_row::table,
            found_row::all_columns,
        );
        let found: Vec<(Uuid, i64)> = query.load(self.conn()?).await?;
        let ids: Vec<Uuid> = found.iter().map(|(id, _)| *id).collect();
        let rows = upkeep_view::table
            .filter(upkeep_view::credential_id.eq_any(&ids))
            .select(UpkeepView::as_select())
            .load(self.conn()?)
            .await?;
        let total = total_of(&found);
        Ok((total, in_order(&found, rows, |row| row.credential_id)))
    }

    /// How many of the accounts that somebody may know of have which outcome of their last check;
    /// nothing for those that were never checked.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn checks_counted(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Vec<(Option<String>, i64)>> {
        let query = rows_of(
            checks_counted(person, now),
            checks_row::table,
            checks_row::all_columns,
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// A part of the table of the jobs of accounts that somebody may know of, and how many rows
    /// all of it has; that is 0 when nothing is found after `from`.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn job_table(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<JobSort>,
    ) -> Result<(i64, Vec<JobView>)> {
        let wanted = filter.wanted(order.sort.word(), order.down);
        let query = rows_of(
            job_table(person, now, wanted, order.from, order.limit),
            found_row::table,
            found_row::all_columns,
        );
        let found: Vec<(Uuid, i64)> = query.load(self.conn()?).await?;
        let ids: Vec<Uuid> = found.iter().map(|(id, _)| *id).collect();
        let rows = self.job_views(person, now, &ids).await?;
        let total = total_of(&found);
        Ok((total, in_order(&found, rows, |view| view.row.id)))
    }
}
