//! The password policies that folders set.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::policy::RuleMode;
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{password_rule, password_rule_for, ruled_from_above};
use crate::stored::Stored;
use crate::{Result, Tx};

/// What a folder demands.
#[derive(Clone, Debug, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = password_rule)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RuleRow {
    pub folder_id: Uuid,
    pub organisation: Uuid,
    pub mode: Stored<RuleMode>,
    pub policies: Vec<Uuid>,
}

impl Tx {
    /// The credentials in a folder and below it for which what counts comes from above it: a folder
    /// with a rule of its own keeps it wherever it goes.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn ruled_from_above(&mut self, folder: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(ruled_from_above(folder))
            .load(self.conn()?)
            .await?)
    }

    /// What counts for the passwords in a folder: its own rule, else that of the nearest above.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn password_rule_for(&mut self, folder: Uuid) -> Result<Option<RuleRow>> {
        let query = rows_of(
            password_rule_for(folder),
            password_rule::table,
            RuleRow::as_select(),
        );
        Ok(query.get_result(self.conn()?).await.optional()?)
    }

    /// Sets what a folder demands.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn set_password_rule(&mut self, row: &RuleRow) -> Result<()> {
        diesel::insert_into(password_rule::table)
            .values(row)
            .on_conflict(password_rule::folder_id)
            .do_update()
            .set(row)
            .execute(self.conn()?)
            .await?;
        self.reassess_all(Some(row.folder_id)).await
    }

    /// Takes away what a folder demands of its own.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn remove_password_rule(&mut self, folder: Uuid) -> Result<()> {
        diesel::delete(password_rule::table.find(folder))
            .execute(self.conn()?)
            .await?;
        self.reassess_all(Some(folder)).await
    }

    /// How many folders and upkeep plans name a policy.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn policy_in_use(&mut self, policy: Uuid) -> Result<i64> {
        use crate::schema::upkeep_plan;
        let plans: i64 = upkeep_plan::table
            .filter(upkeep_plan::policy_id.eq(policy))
            .count()
            .get_result(self.conn()?)
            .await?;
        let rules: i64 = password_rule::table
            .filter(password_rule::policies.contains(vec![policy]))
            .count()
            .get_result(self.conn()?)
            .await?;
        Ok(plans + rules)
    }
}
