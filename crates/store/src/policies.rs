//! Password policies.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{lower, password_policy};
use crate::{Result, Tx};

/// A password policy.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = password_policy)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PolicyRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub rules: serde_json::Value,
    pub is_default: bool,
    pub revision: i32,
}

impl Tx {
    /// Adds a password policy.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken.
    pub async fn add_policy(&mut self, row: &PolicyRow) -> Result<()> {
        diesel::insert_into(password_policy::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The password policies, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn policies(&mut self) -> Result<Vec<PolicyRow>> {
        Ok(password_policy::table
            .select(PolicyRow::as_select())
            .order(lower(password_policy::name))
            .load(self.conn()?)
            .await?)
    }

    /// A password policy; without an identifier, the default.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn policy(&mut self, id: Option<Uuid>) -> Result<PolicyRow> {
        let mut query = password_policy::table
            .select(PolicyRow::as_select())
            .into_boxed();
        query = match id {
            Some(id) => query.filter(password_policy::id.eq(id)),
            None => query.filter(password_policy::is_default.eq(true)),
        };
        Ok(query.first(self.conn()?).await?)
    }

    /// Writes a policy back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn edit_policy(&mut self, row: &PolicyRow) -> Result<()> {
        let query = diesel::update(
            password_policy::table
                .find(row.id)
                .filter(password_policy::revision.eq(row.revision)),
        )
        .set((
            password_policy::name.eq(&row.name),
            password_policy::rules.eq(&row.rules),
            password_policy::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Makes a policy the one that counts where no other is named.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn make_policy_default(&mut self, id: Uuid) -> Result<()> {
        diesel::update(password_policy::table.filter(password_policy::is_default))
            .set(password_policy::is_default.eq(false))
            .execute(self.conn()?)
            .await?;
        one_row(
            diesel::update(password_policy::table.find(id))
                .set(password_policy::is_default.eq(true))
                .execute(self.conn()?)
                .await?,
        )
    }

    /// Removes a policy.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn remove_policy(&mut self, id: Uuid, revision: i32) -> Result<()> {
        one_row(
            diesel::delete(
                password_policy::table
                    .find(id)
                    .filter(password_policy::revision.eq(revision)),
            )
            .execute(self.conn()?)
            .await?,
        )
    }
}
