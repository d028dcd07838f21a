//! The bin: what was removed, restored in one step, or emptied for good.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::vault::RemovedType;
use uuid::Uuid;

use crate::schema::{credential, device, level_on_removed, person, removal};
use crate::sql::statement;
use crate::stored::Stored;
use crate::{Result, StoreError, Tx};

/// One act of removing.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = removal)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RemovalRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub target_type: Stored<RemovedType>,
    pub target: Uuid,
    pub path: String,
    pub folder_id: Uuid,
    pub credentials: i32,
    pub removed_at: DateTime<Utc>,
    pub removed_by: Option<Uuid>,
    pub restored_at: Option<DateTime<Utc>>,
    pub purged_at: Option<DateTime<Utc>>,
}

/// One act of removing, with the name of who did it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RemovalView {
    pub row: RemovalRow,
    pub removed_by_name: Option<String>,
}

#[derive(QueryableByName)]
pub(crate) struct Count {
    #[diesel(sql_type = sql_types::BigInt)]
    pub(crate) count: i64,
}

impl Tx {
    /// Notes an act of removing; what it takes away names it.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_removal(&mut self, row: &RemovalRow) -> Result<()> {
        diesel::insert_into(removal::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// An act of removing whose things are still in the bin; held until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn removal(&mut self, id: Uuid) -> Result<RemovalRow> {
        let query = removal::table
            .find(id)
            .filter(removal::restored_at.is_null())
            .filter(removal::purged_at.is_null())
            .select(RemovalRow::as_select())
            .for_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// What is in the bin of folders that somebody is a steward of, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn in_bin(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        after: Option<(DateTime<Utc>, Uuid)>,
        most: i64,
    ) -> Result<Vec<RemovalView>> {
        let mut query = removal::table
            .left_join(person::table.on(person::id.nullable().eq(removal::removed_by)))
            .filter(removal::restored_at.is_null())
            .filter(removal::purged_at.is_null())
            .filter(
                level_on_removed(viewer, removal::id, now)
                    .eq(jexlin_core::access::Level::Steward.number()),
            )
            .order((removal::removed_at.desc(), removal::id.desc()))
            .limit(most)
            .select((RemovalRow::as_select(), person::display_name.nullable()))
            .into_boxed();
        if let Some((at, id)) = after {
            query = query.filter(
                removal::removed_at
                    .lt(at)
                    .or(removal::removed_at.eq(at).and(removal::id.lt(id))),
            );
        }
        let rows: Vec<(RemovalRow, Option<String>)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .map(|(row, removed_by_name)| RemovalView {
                row,
                removed_by_name,
            })
            .collect())
    }

    /// Takes a folder and everything in it away as one act. Refused while a job or a checkout is
    /// under way in it, or a device outside is changed with something in it.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way`, `checked_out` or `is_operator`.
    pub async fn remove_folder_tree(&mut self, row: &RemovalRow) -> Result<usize> {
        self.lock_tree().await?;
        let inside = "(SELECT subtree_of($1))";
        let here = format!(
            "SELECT c.id FROM credential c WHERE c.removed_at IS NULL AND c.folder_id IN {inside}"
        );
        // Nobody may begin something on any of them from here on.
        statement(format!("{here} FOR UPDATE"))
            .bind::<sql_types::Uuid, _>(row.target)
            .execute(self.conn()?)
            .await?;
        for (sql, why) in [
            (
                format!(
                    "SELECT count(*) AS count FROM job j WHERE j.state IN ('queued', 'running') AND j.credential_id IN ({here})"
                ),
                "job_under_way",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM checkout k WHERE k.ended_at IS NULL AND k.credential_id IN ({here})"
                ),
                "checked_out",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM account a WHERE a.rotation_owed_at IS NOT NULL AND a.credential_id IN ({here})"
                ),
                "rotation_owed",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM binding b JOIN device d ON d.id = b.device_id WHERE b.role = 'operator' AND d.removed_at IS NULL AND b.credential_id IN ({here}) AND d.folder_id NOT IN {inside}"
                ),
                "is_operator",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM credential c JOIN device d ON d.id = c.device_id WHERE c.removed_at IS NULL AND d.removed_at IS NULL AND d.folder_id IN {inside} AND c.folder_id NOT IN {inside}"
                ),
                "has_accounts_elsewhere",
            ),
        ] {
            let found: Count = statement(sql)
                .bind::<sql_types::Uuid, _>(row.target)
                .get_result(self.conn()?)
                .await?;
            if found.count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        let mut counts = [0; 3];
        for (at, table) in ["credential", "device", "folder"].into_iter().enumerate() {
            let place = if table == "folder" { "id" } else { "folder_id" };
            let sql = format!(
                "UPDATE {table} SET removed_at = $2, removal_id = $3, version = version + 1 WHERE removed_at IS NULL AND {place} IN {inside}"
            );
            let query = statement(sql)
                .bind::<sql_types::Uuid, _>(row.target)
                .bind::<sql_types::Timestamptz, _>(row.removed_at)
                .bind::<sql_types::Uuid, _>(row.id);
            let done = query.execute(self.conn()?).await?;
            if let Some(count) = counts.get_mut(at) {
                *count = done;
            }
        }
        let sql = "UPDATE account a SET stale = true FROM credential c WHERE c.id = a.credential_id AND c.removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        let credentials = i32::try_from(counts[0]).unwrap_or(i32::MAX);
        diesel::update(removal::table.find(row.id))
            .set(removal::credentials.eq(credentials))
            .execute(self.conn()?)
            .await?;
        Ok(counts[0])
    }

    /// Puts back what an act of removing took away.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken meanwhile, or with `folder_removed` or
    /// `device_removed` when where it was is in the bin itself.
    pub async fn restore_removal(&mut self, row: &RemovalRow, now: DateTime<Utc>) -> Result<()> {
        self.lock_tree().await?;
        for (sql, why) in [
            (
                "SELECT count(*) AS count FROM folder f JOIN folder p ON p.id = f.parent_id WHERE f.removal_id = $1 AND p.removed_at IS NOT NULL AND p.removal_id IS DISTINCT FROM $1",
                "folder_removed",
            ),
            (
                "SELECT count(*) AS count FROM attachment a JOIN credential c ON c.id = a.credential_id WHERE a.removal_id = $1 AND c.removed_at IS NOT NULL",
                "folder_removed",
            ),
            (
                "SELECT count(*) AS count FROM credential c JOIN folder p ON p.id = c.folder_id WHERE c.removal_id = $1 AND p.removed_at IS NOT NULL AND p.removal_id IS DISTINCT FROM $1",
                "folder_removed",
            ),
            (
                "SELECT count(*) AS count FROM device d JOIN folder p ON p.id = d.folder_id WHERE d.removal_id = $1 AND p.removed_at IS NOT NULL AND p.removal_id IS DISTINCT FROM $1",
                "folder_removed",
            ),
            (
                "SELECT count(*) AS count FROM credential c JOIN device d ON d.id = c.device_id WHERE c.removal_id = $1 AND d.removed_at IS NOT NULL AND d.removal_id IS DISTINCT FROM $1",
                "device_removed",
            ),
        ] {
            let found: Count = statement(sql)
                .bind::<sql_types::Uuid, _>(row.id)
                .get_result(self.conn()?)
                .await?;
            if found.count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        // The credentials first, as everybody does who sets a value.
        let held = "SELECT c.id FROM credential c WHERE c.removal_id = $1 ORDER BY c.id FOR UPDATE";
        statement(held)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        let sql = "UPDATE account a SET stale = true FROM credential c WHERE c.id = a.credential_id AND c.removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        let sql = "UPDATE judgement j SET stale = true FROM credential c WHERE c.id = j.credential_id AND c.removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        for table in ["folder", "device", "credential"] {
            let sql = format!(
                "UPDATE {table} SET removed_at = NULL, removal_id = NULL, version = version + 1 WHERE removal_id = $1"
            );
            statement(sql)
                .bind::<sql_types::Uuid, _>(row.id)
                .execute(self.conn()?)
                .await?;
        }
        let sql =
            "UPDATE attachment SET removed_at = NULL, removal_id = NULL WHERE removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        if row.target_type == RemovedType::Folder {
            self.refresh_sources(row.target).await?;
        }
        diesel::update(removal::table.find(row.id))
            .set(removal::restored_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Why what an act of removing took away cannot be purged, if it cannot: `job_under_way`,
    /// `checked_out`, `rotation_owed`, or, when accounts of devices count, `on_device`.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn purge_stopped(
        &mut self,
        id: Uuid,
        devices_count: bool,
    ) -> Result<Option<&'static str>> {
        for (sql, why) in [
            (
                "SELECT count(*) AS count FROM job j JOIN credential c ON c.id = j.credential_id WHERE c.removal_id = $1 AND j.state IN ('queued', 'running')",
                "job_under_way",
            ),
            (
                "SELECT count(*) AS count FROM secret_version v JOIN credential c ON c.id = v.credential_id WHERE c.removal_id = $1 AND v.state = 'candidate'",
                "job_under_way",
            ),
            (
                "SELECT count(*) AS count FROM checkout k JOIN credential c ON c.id = k.credential_id WHERE c.removal_id = $1 AND k.ended_at IS NULL",
                "checked_out",
            ),
            (
                "SELECT count(*) AS count FROM account a JOIN credential c ON c.id = a.credential_id WHERE c.removal_id = $1 AND a.rotation_owed_at IS NOT NULL",
                "rotation_owed",
            ),
            // Also when the device itself is only in the bin: it comes back with its password.
            (
                "SELECT count(*) AS count FROM account a JOIN credential c ON c.id = a.credential_id WHERE c.removal_id = $1",
                "on_device",
            ),
            (
                "SELECT count(*) AS count FROM account a JOIN device d ON d.id = a.device_id WHERE d.removal_id = $1 AND a.credential_id IS NOT NULL",
                "on_device",
            ),
        ] {
            if why == "on_device" && !devices_count {
                continue;
            }
            let found: Count = statement(sql)
                .bind::<sql_types::Uuid, _>(id)
                .get_result(self.conn()?)
                .await?;
            if found.count > 0 {
                return Ok(Some(why));
            }
        }
        Ok(None)
    }

    /// Empties for good what an act of removing took away. How many credentials that were.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when the database refuses; ask [`Tx::purge_stopped`] first.
    pub async fn purge_removal(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<usize> {
        // Grants and gates of its own go with it.
        self.must_examine();
        let all: Vec<Uuid> = credential::table
            .filter(credential::removal_id.eq(id))
            .filter(credential::purged_at.is_null())
            .select(credential::id)
            .load(self.conn()?)
            .await?;
        for credential in &all {
            statement("SELECT purge_credential($1, $2)")
                .bind::<sql_types::Uuid, _>(*credential)
                .bind::<sql_types::Timestamptz, _>(now)
                .execute(self.conn()?)
                .await?;
        }
        let sql = "DELETE FROM attachment WHERE removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(id)
            .execute(self.conn()?)
            .await?;
        diesel::update(removal::table.find(id))
            .set(removal::purged_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(all.len())
    }

    /// Acts of removing from before a time, oldest first, that nothing keeps from being purged.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn removals_to_purge(
        &mut self,
        before: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<RemovalRow>> {
        let query = removal::table
            .filter(removal::restored_at.is_null())
            .filter(removal::purged_at.is_null())
            .filter(removal::removed_at.lt(before))
            .order(removal::removed_at)
            .limit(most)
            .for_update()
            .skip_locked()
            .select(RemovalRow::as_select());
        let mut free = vec![];
        for row in query.load::<RemovalRow>(self.conn()?).await? {
            if self.purge_stopped(row.id, true).await?.is_none() {
                free.push(row);
            }
        }
        Ok(free)
    }

    /// Whether somebody is a steward of every place where what an act of removing took away was.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn steward_of_removed(
        &mut self,
        person: Uuid,
        removed: Uuid,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        let held: Option<i16> = removal::table
            .find(removed)
            .select(level_on_removed(person, removal::id, now))
            .first(self.conn()?)
            .await?;
        Ok(held == Some(jexlin_core::access::Level::Steward.number()))
    }

    /// Names the act of removing by which a device went.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn device_removed_by(&mut self, id: Uuid, by: Uuid) -> Result<()> {
        diesel::update(device::table.find(id))
            .set(device::removal_id.eq(by))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }
}
