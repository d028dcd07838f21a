//! Kinds of an organisation's own.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{credential, kind, lower};
use crate::{Result, Tx};

/// A kind of an organisation's own.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = kind)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct KindRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub label: String,
    pub fields: serde_json::Value,
    pub generates: bool,
    pub retired_at: Option<DateTime<Utc>>,
    pub revision: i32,
}

impl Tx {
    /// The organisation's own kinds, by label.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn kinds(&mut self) -> Result<Vec<KindRow>> {
        Ok(kind::table
            .select(KindRow::as_select())
            .order(lower(kind::label))
            .load(self.conn()?)
            .await?)
    }

    /// The organisation's own kind of a name.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn kind(&mut self, name: &str) -> Result<Option<KindRow>> {
        Ok(kind::table
            .filter(kind::name.eq(name))
            .select(KindRow::as_select())
            .first(self.conn()?)
            .await
            .optional()?)
    }

    /// Adds one.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the name is taken.
    pub async fn add_kind(&mut self, row: &KindRow) -> Result<()> {
        diesel::insert_into(kind::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Writes one back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn edit_kind(&mut self, row: &KindRow) -> Result<()> {
        let query = diesel::update(
            kind::table
                .find(row.id)
                .filter(kind::revision.eq(row.revision)),
        )
        .set((
            kind::label.eq(&row.label),
            kind::fields.eq(&row.fields),
            kind::generates.eq(row.generates),
            kind::retired_at.eq(row.retired_at),
            kind::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Removes one.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn remove_kind(&mut self, row: &KindRow) -> Result<()> {
        one_row(
            diesel::delete(
                kind::table
                    .find(row.id)
                    .filter(kind::revision.eq(row.revision)),
            )
            .execute(self.conn()?)
            .await?,
        )
    }

    /// How many credentials are of a kind, those in the bin included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn credentials_of_kind(&mut self, name: &str) -> Result<i64> {
        let query = credential::table
            .filter(credential::kind.eq(name))
            .filter(credential::purged_at.is_null());
        Ok(query.count().get_result(self.conn()?).await?)
    }
}
