//! The accounts that devices say they have, as they were last read.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::account::Family;
use jexlin_core::upkeep::{FoundAccount, JobState, Task};
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::error::StoreError;
use crate::schema::{account, found_account, job};
use crate::stored::Stored;
use crate::{Result, Tx};

/// So many rows are written at a time.
const AT_A_TIME: usize = 1_000;

/// The last reading of a device's accounts.
#[derive(Clone, Debug, Queryable)]
#[allow(missing_docs, reason = "each says what its name says")]
pub struct LastListing {
    pub state: Stored<JobState>,
    pub message: String,
    pub queued_at: DateTime<Utc>,
    pub finished_at: Option<DateTime<Utc>>,
}

impl Tx {
    /// Replaces what is known of the accounts of a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn set_found_accounts(&mut self, on: Uuid, found: &[FoundAccount]) -> Result<()> {
        let organisation = self.organisation();
        diesel::delete(found_account::table.filter(found_account::device_id.eq(on)))
            .execute(self.conn()?)
            .await?;
        for part in found.chunks(AT_A_TIME) {
            let mut rows = vec![];
            for account in part {
                let facts = serde_json::to_value(account)
                    .map_err(|error| StoreError::Broken(error.to_string()))?;
                rows.push((
                    found_account::organisation.eq(organisation),
                    found_account::device_id.eq(on),
                    found_account::login.eq(&account.login),
                    found_account::facts.eq(facts),
                ));
            }
            diesel::insert_into(found_account::table)
                .values(rows)
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// What is known of the accounts of a device, by login.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn found_accounts(&mut self, on: Uuid) -> Result<Vec<FoundAccount>> {
        let facts: Vec<serde_json::Value> = found_account::table
            .filter(found_account::device_id.eq(on))
            .order(found_account::login)
            .select(found_account::facts)
            .load(self.conn()?)
            .await?;
        let read = |facts| {
            serde_json::from_value(facts)
                .map_err(|error: serde_json::Error| StoreError::Broken(error.to_string()))
        };
        facts.into_iter().map(read).collect()
    }

    /// The last reading of a device's accounts.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn last_listing(&mut self, on: Uuid) -> Result<Option<LastListing>> {
        let query = job::table
            .filter(job::device_id.eq(on))
            .filter(job::task.eq(Stored(Task::Listing)))
            .order(job::queued_at.desc())
            .select((job::state, job::message, job::queued_at, job::finished_at));
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The credentials of all accounts of a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn all_credentials_on(&mut self, on: Uuid) -> Result<Vec<Uuid>> {
        let ids: Vec<Option<Uuid>> = account::table
            .filter(account::device_id.eq(on))
            .filter(account::credential_id.is_not_null())
            .select(account::credential_id)
            .load(self.conn()?)
            .await?;
        Ok(ids.into_iter().flatten().collect())
    }

    /// The credentials of the accounts of a device of a family, each with the key of its login.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn credentials_on(
        &mut self,
        on: Uuid,
        family: Family,
    ) -> Result<Vec<(String, Uuid)>> {
        let rows: Vec<(String, Option<Uuid>)> = account::table
            .filter(account::device_id.eq(on))
            .filter(account::family.eq(family.word()))
            .filter(account::credential_id.is_not_null())
            .select((account::login_key, account::credential_id))
            .load(self.conn()?)
            .await?;
        let rows = rows.into_iter();
        Ok(rows.filter_map(|(key, id)| Some((key, id?))).collect())
    }
}
