//! Parts of tables, as somebody sees them: sorted and narrowed by the database.

use std::collections::HashMap;

use chrono::{DateTime, NaiveDate, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::gate::{CheckoutSort, RequestSort};
use jexlin_core::people::PersonSort;
use jexlin_core::upkeep::{AccountSort, DeviceSort, JobSort};
use jexlin_core::words::Word as _;
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::credential_lists::part;
use crate::rows_of::rows_of;
use crate::schema::{
    account_table, checkout_table, checkout_view, checks_counted, checks_row, device, device_table,
    found_row, job_table, person, person_table, request_row, request_table, requests_for,
    rotations_by_day, rotations_row, upkeep_view,
};
use crate::tx::end_of_time;
use crate::{CheckoutView, DeviceRow, JobView, PersonRow, RequestView, Result, Tx, UpkeepView};

/// Which rows of a table are wanted. Texts are parts, in any case.
#[derive(Clone, Debug, Default)]
pub struct TableFilter {
    /// Only those that hold each of these words.
    pub find: Vec<String>,
    /// Only those with this in this column.
    pub parts: Vec<(&'static str, String)>,
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
        for (name, text) in &self.parts {
            wanted.insert((*name).to_owned(), part(text).into());
        }
        for (name, value) in &self.exactly {
            wanted.insert((*name).to_owned(), value.as_str().into());
        }
        Value::Object(wanted)
    }
}

/// Which rows a part of a table has, and how many the whole of it has: the number is right even
/// when the table became shorter and nothing is left where the part would begin.
macro_rules! found {
    ($tx:expr, $table:ident, $person:expr, $now:expr, $filter:expr, $order:expr) => {{
        let (tx, order): (&mut Tx, TableOrder<_>) = ($tx, $order);
        let wanted = $filter.wanted(order.sort.word(), order.down);
        let mut parts = vec![(order.from.max(0), order.limit)];
        if order.from > 0 {
            parts.push((0, 1));
        }
        let (mut total, mut ids) = (0, vec![]);
        for (from, limit) in parts {
            let query = rows_of(
                $table($person, $now, wanted.clone(), from, limit),
                found_row::table,
                found_row::all_columns,
            );
            let found: Vec<(Uuid, i64)> = query.load(tx.conn()?).await?;
            if let Some((_, rows)) = <[_]>::first(&found) {
                total = *rows;
                if from == order.from.max(0) {
                    ids = found.into_iter().map(|(id, _)| id).collect();
                }
                break;
            }
        }
        (total, ids)
    }};
}

/// The rows in the order in which they were found.
fn in_order<R>(found: &[Uuid], rows: Vec<R>, id: impl Fn(&R) -> Uuid) -> Vec<R> {
    let mut by_id: HashMap<Uuid, R> = rows.into_iter().map(|row| (id(&row), row)).collect();
    found.iter().filter_map(|id| by_id.remove(id)).collect()
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
        let (total, ids) = found!(self, account_table, person, now, filter, order);
        let rows = upkeep_view::table
            .filter(upkeep_view::credential_id.eq_any(&ids))
            .select(UpkeepView::as_select())
            .load(self.conn()?)
            .await?;
        Ok((total, in_order(&ids, rows, |row| row.credential_id)))
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

    /// How many rotations of accounts that somebody may know of ended well and badly, on each of
    /// the last seven days that had any, as days are where the clock is so many minutes ahead of
    /// UTC.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn rotations_by_day(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        minutes_ahead: i32,
    ) -> Result<Vec<(NaiveDate, i64, i64)>> {
        let query = rows_of(
            rotations_by_day(person, now, minutes_ahead),
            rotations_row::table,
            rotations_row::all_columns,
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
        let (total, ids) = found!(self, job_table, person, now, filter, order);
        let rows = self.job_views(person, now, &ids).await?;
        Ok((total, in_order(&ids, rows, |view| view.row.id)))
    }

    /// A part of the table of people and clients.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn person_table(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<PersonSort>,
    ) -> Result<(i64, Vec<PersonRow>)> {
        let (total, ids) = found!(self, person_table, viewer, now, filter, order);
        let rows = person::table
            .filter(person::id.eq_any(&ids))
            .select(PersonRow::as_select())
            .load(self.conn()?)
            .await?;
        Ok((total, in_order(&ids, rows, |row| row.id)))
    }

    /// A part of the table of the devices in folders that somebody may know of.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn device_table(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<DeviceSort>,
    ) -> Result<(i64, Vec<DeviceRow>)> {
        let (total, ids) = found!(self, device_table, viewer, now, filter, order);
        let rows = device::table
            .filter(device::id.eq_any(&ids))
            .select(DeviceRow::as_select())
            .load(self.conn()?)
            .await?;
        Ok((total, in_order(&ids, rows, |row| row.id)))
    }

    /// A part of the table of somebody's own checkouts.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn checkout_table(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<CheckoutSort>,
    ) -> Result<(i64, Vec<CheckoutView>)> {
        let (total, ids) = found!(self, checkout_table, viewer, now, filter, order);
        let rows = checkout_view::table
            .filter(checkout_view::id.eq_any(&ids))
            .select(CheckoutView::as_select())
            .load(self.conn()?)
            .await?;
        Ok((total, in_order(&ids, rows, |row| row.id)))
    }

    /// A part of the table of the requests that concern somebody.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn request_table(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        filter: &TableFilter,
        order: TableOrder<RequestSort>,
    ) -> Result<(i64, Vec<RequestView>)> {
        let (total, ids) = found!(self, request_table, viewer, now, filter, order);
        let query = rows_of(
            requests_for(
                viewer,
                Some(ids.clone()),
                None::<String>,
                None::<Uuid>,
                end_of_time(),
                Uuid::max(),
                order.limit,
            ),
            request_row::table,
            RequestView::as_select(),
        );
        let rows = query.load(self.conn()?).await?;
        Ok((total, in_order(&ids, rows, |row: &RequestView| row.id)))
    }
}
