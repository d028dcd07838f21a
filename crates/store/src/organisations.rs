//! Organisations.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::schema::organisation;
use crate::{Result, Tx};

/// An organisation.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = organisation)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct OrganisationRow {
    pub id: Uuid,
    pub name: String,
    pub wrapped_key: Vec<u8>,
    pub log_origin: String,
    pub log_key_sealed: Vec<u8>,
    pub log_verifier: String,
    pub created_at: DateTime<Utc>,
    pub locked_at: Option<DateTime<Utc>>,
    /// The name of the root key that `wrapped_key` is under; empty when nobody noted it yet.
    pub root_key: String,
    /// The key under the next root key, while that changes.
    pub next_wrapped_key: Option<Vec<u8>>,
    pub next_root_key: Option<String>,
    pub key_number: i32,
    /// The former key under this one, while data keys move.
    pub former_key: Option<Vec<u8>>,
}

impl Tx {
    /// Adds the organisation of this transaction.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken.
    pub async fn add_organisation(&mut self, row: &OrganisationRow) -> Result<()> {
        diesel::insert_into(organisation::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The organisation of this transaction.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn organisation_row(&mut self) -> Result<OrganisationRow> {
        Ok(organisation::table
            .select(OrganisationRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// Closes the vault of the organisation, or opens it again. While it is closed, no service
    /// commits anything that leaves an event.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn set_locked(&mut self, time: Option<DateTime<Utc>>) -> Result<()> {
        self.hold_commits().await?;
        diesel::update(organisation::table)
            .set(organisation::locked_at.eq(time))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }
}
