//! The bin: what was removed, restored in one step, or deleted permanently.

use chrono::{DateTime, Utc};
use diesel::dsl::exists;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::{JobState, Role};
use jexlin_core::vault::{RemovedType, VersionState};
use uuid::Uuid;

use crate::schema::{
    account, assessment, attachment, binding, checkout, credential, device, folder, job,
    level_on_removed, person, purge_credential, removal, secret_version,
};
use crate::stored::Stored;
use crate::{Conflict, Result, StoreError, Tx};

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

/// The states of a job that is not over.
const UNDER_WAY: [JobState; 2] = [JobState::Queued, JobState::Running];

fn conflict_if(found: bool, conflict: Conflict) -> Result<()> {
    if found {
        return Err(StoreError::Conflict(conflict));
    }
    Ok(())
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
        limit: i64,
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
            .limit(limit)
            .select((RemovalRow::as_select(), person::display_name.nullable()))
            .into_boxed();
        if let Some((time, id)) = after {
            query = query.filter(
                removal::removed_at
                    .lt(time)
                    .or(removal::removed_at.eq(time).and(removal::id.lt(id))),
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
        let inside = self.subtree(row.target).await?;
        // Nobody may begin something on any of them from here on.
        let here: Vec<Uuid> = credential::table
            .filter(credential::folder_id.eq_any(&inside))
            .filter(credential::removed_at.is_null())
            .select(credential::id)
            .for_update()
            .load(self.conn()?)
            .await?;
        self.refuse_if_busy(&here).await?;
        let owed = account::table
            .filter(account::rotation_owed_at.is_not_null())
            .filter(account::credential_id.eq_any(&here));
        let owed: bool = diesel::select(exists(owed))
            .get_result(self.conn()?)
            .await?;
        conflict_if(owed, Conflict::RotationOwed)?;
        self.refuse_if_operator(&here, &inside).await?;
        let accounts_outside = credential::table
            .inner_join(device::table.on(credential::device_id.eq(device::id.nullable())))
            .filter(credential::removed_at.is_null())
            .filter(device::removed_at.is_null())
            .filter(device::folder_id.eq_any(&inside))
            .filter(credential::folder_id.ne_all(&inside));
        let elsewhere: bool = diesel::select(exists(accounts_outside))
            .get_result(self.conn()?)
            .await?;
        conflict_if(elsewhere, Conflict::HasAccountsElsewhere)?;
        let host = diesel::alias!(device as host);
        let behind = device::table
            .inner_join(host.on(device::jump_host_id.eq(host.field(device::id).nullable())))
            .filter(host.field(device::folder_id).eq_any(&inside))
            .filter(device::removed_at.is_null())
            .filter(device::folder_id.ne_all(&inside));
        let behind: bool = diesel::select(exists(behind))
            .get_result(self.conn()?)
            .await?;
        conflict_if(behind, Conflict::IsJumpHost)?;
        let removed = self.put_in_bin(row, &here).await?;
        let devices = device::table
            .filter(device::folder_id.eq_any(&inside))
            .filter(device::removed_at.is_null());
        diesel::update(devices)
            .set((
                device::removed_at.eq(row.removed_at),
                device::removal_id.eq(row.id),
                device::revision.eq(device::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        let folders = folder::table
            .filter(folder::id.eq_any(&inside))
            .filter(folder::removed_at.is_null());
        diesel::update(folders)
            .set((
                folder::removed_at.eq(row.removed_at),
                folder::removal_id.eq(row.id),
                folder::revision.eq(folder::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        let credentials = i32::try_from(removed).unwrap_or(i32::MAX);
        diesel::update(removal::table.find(row.id))
            .set(removal::credentials.eq(credentials))
            .execute(self.conn()?)
            .await?;
        Ok(removed)
    }

    /// Refuses to take credentials away that somebody or something is using.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way` or `checked_out`.
    pub(crate) async fn refuse_if_busy(&mut self, credentials: &[Uuid]) -> Result<()> {
        let jobs = job::table
            .filter(job::state.eq_any(UNDER_WAY.map(Stored)))
            .filter(job::credential_id.eq_any(credentials));
        let found: bool = diesel::select(exists(jobs))
            .get_result(self.conn()?)
            .await?;
        conflict_if(found, Conflict::JobUnderWay)?;
        let checkouts = checkout::table
            .filter(checkout::ended_at.is_null())
            .filter(checkout::credential_id.eq_any(credentials));
        let found: bool = diesel::select(exists(checkouts))
            .get_result(self.conn()?)
            .await?;
        conflict_if(found, Conflict::CheckedOut)
    }

    /// Refuses to take credentials away with which a device is operated, or reached, that is in none
    /// of these folders.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `is_operator`.
    pub(crate) async fn refuse_if_operator(
        &mut self,
        credentials: &[Uuid],
        but_in: &[Uuid],
    ) -> Result<()> {
        let outside = binding::table
            .inner_join(device::table.on(device::id.eq(binding::device_id)))
            .filter(binding::role.ne(Stored(Role::Account)))
            .filter(binding::credential_id.eq_any(credentials))
            .filter(device::removed_at.is_null())
            .filter(device::folder_id.ne_all(but_in));
        let found: bool = diesel::select(exists(outside))
            .get_result(self.conn()?)
            .await?;
        conflict_if(found, Conflict::IsOperator)
    }

    /// Moves credentials to the bin as part of an act of removing. How many.
    ///
    /// # Errors
    /// [`StoreError`].
    pub(crate) async fn put_in_bin(
        &mut self,
        row: &RemovalRow,
        credentials: &[Uuid],
    ) -> Result<usize> {
        let here = credential::table.filter(credential::id.eq_any(credentials));
        let removed = diesel::update(here)
            .set((
                credential::removed_at.eq(row.removed_at),
                credential::removal_id.eq(row.id),
                credential::revision.eq(credential::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        self.plan_again_for_removed(row.id).await?;
        Ok(removed)
    }

    /// What is due for the accounts of credentials that an act of removing took away is worked out
    /// again.
    async fn plan_again_for_removed(&mut self, removed: Uuid) -> Result<()> {
        let of = credential::table
            .filter(credential::removal_id.eq(removed))
            .select(credential::id.nullable());
        diesel::update(account::table.filter(account::credential_id.eq_any(of)))
            .set(account::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Puts back what an act of removing took away.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken meanwhile, or with `folder_removed` or
    /// `device_removed` when where it was is in the bin itself.
    pub async fn restore_removal(&mut self, row: &RemovalRow, now: DateTime<Utc>) -> Result<()> {
        self.lock_tree().await?;
        self.refuse_if_place_removed(row.id).await?;
        // The credentials first, as everybody does who sets a value.
        let held: Vec<Uuid> = credential::table
            .filter(credential::removal_id.eq(row.id))
            .order(credential::id)
            .select(credential::id)
            .for_update()
            .load(self.conn()?)
            .await?;
        self.plan_again_for_removed(row.id).await?;
        diesel::update(assessment::table.filter(assessment::credential_id.eq_any(held)))
            .set(assessment::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        let none = None::<DateTime<Utc>>;
        let no_removal = None::<Uuid>;
        diesel::update(folder::table.filter(folder::removal_id.eq(row.id)))
            .set((
                folder::removed_at.eq(none),
                folder::removal_id.eq(no_removal),
                folder::revision.eq(folder::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        diesel::update(device::table.filter(device::removal_id.eq(row.id)))
            .set((
                device::removed_at.eq(none),
                device::removal_id.eq(no_removal),
                device::revision.eq(device::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        diesel::update(credential::table.filter(credential::removal_id.eq(row.id)))
            .set((
                credential::removed_at.eq(none),
                credential::removal_id.eq(no_removal),
                credential::revision.eq(credential::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        diesel::update(attachment::table.filter(attachment::removal_id.eq(row.id)))
            .set((
                attachment::removed_at.eq(none),
                attachment::removal_id.eq(no_removal),
            ))
            .execute(self.conn()?)
            .await?;
        match row.target_type.0 {
            RemovedType::Folder => self.refresh_sources(row.target).await?,
            RemovedType::Import => self.refresh_imported_folders(row.target).await?,
            RemovedType::Credential | RemovedType::Device | RemovedType::Attachment => {}
        }
        diesel::update(removal::table.find(row.id))
            .set(removal::restored_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The sources of the folders that an import added.
    async fn refresh_imported_folders(&mut self, import: Uuid) -> Result<()> {
        let added: Vec<Uuid> = folder::table
            .filter(folder::import_id.eq(import))
            .select(folder::id)
            .load(self.conn()?)
            .await?;
        self.refresh_sources_of(added).await
    }

    /// Refuses to restore what would come back into something that is in the bin itself.
    async fn refuse_if_place_removed(&mut self, removed: Uuid) -> Result<()> {
        let mut places: Vec<Uuid> = folder::table
            .filter(folder::removal_id.eq(removed))
            .filter(folder::parent_id.is_not_null())
            .select(folder::parent_id.assume_not_null())
            .load(self.conn()?)
            .await?;
        let credentials = credential::table
            .filter(credential::removal_id.eq(removed))
            .select(credential::folder_id)
            .distinct();
        places.extend(credentials.load::<Uuid>(self.conn()?).await?);
        let devices = device::table
            .filter(device::removal_id.eq(removed))
            .select(device::folder_id)
            .distinct();
        places.extend(devices.load::<Uuid>(self.conn()?).await?);
        let gone = folder::table
            .filter(folder::id.eq_any(places))
            .filter(folder::removed_at.is_not_null())
            .filter(folder::removal_id.is_distinct_from(removed));
        let attached = attachment::table
            .filter(attachment::removal_id.eq(removed))
            .select(attachment::credential_id);
        let in_bin = credential::table
            .filter(credential::id.eq_any(attached))
            .filter(credential::removed_at.is_not_null());
        let query = diesel::select(exists(gone).or(exists(in_bin)));
        conflict_if(
            query.get_result(self.conn()?).await?,
            Conflict::FolderRemoved,
        )?;
        let on = credential::table
            .filter(credential::removal_id.eq(removed))
            .filter(credential::device_id.is_not_null())
            .select(credential::device_id.assume_not_null());
        let gone = device::table
            .filter(device::id.eq_any(on))
            .filter(device::removed_at.is_not_null())
            .filter(device::removal_id.is_distinct_from(removed));
        let found: bool = diesel::select(exists(gone))
            .get_result(self.conn()?)
            .await?;
        conflict_if(found, Conflict::DeviceRemoved)
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
        let of = credential::table
            .filter(credential::removal_id.eq(id))
            .select(credential::id);
        let jobs = job::table
            .filter(job::state.eq_any(UNDER_WAY.map(Stored)))
            .filter(job::credential_id.eq_any(of));
        let candidates = secret_version::table
            .filter(secret_version::state.eq(Stored(VersionState::Candidate)))
            .filter(secret_version::credential_id.eq_any(of));
        let checkouts = checkout::table
            .filter(checkout::ended_at.is_null())
            .filter(checkout::credential_id.eq_any(of));
        let accounts = account::table
            .filter(account::credential_id.eq_any(of.select(credential::id.nullable())));
        // Also when the device itself is only in the bin: it comes back with its password.
        let on_removed_device = account::table
            .inner_join(device::table.on(device::id.eq(account::device_id)))
            .filter(device::removal_id.eq(id))
            .filter(account::credential_id.is_not_null());
        let query = diesel::select((
            exists(jobs).or(exists(candidates)),
            exists(checkouts),
            exists(accounts.filter(account::rotation_owed_at.is_not_null())),
            exists(accounts).or(exists(on_removed_device)),
        ));
        let (busy, checked_out, owed, on_device): (bool, bool, bool, bool) =
            query.get_result(self.conn()?).await?;
        Ok(if busy {
            Some("job_under_way")
        } else if checked_out {
            Some("checked_out")
        } else if owed {
            Some("rotation_owed")
        } else if on_device && devices_count {
            Some("on_device")
        } else {
            None
        })
    }

    /// Deletes permanently what an act of removing took away. How many credentials that were.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when the database refuses; ask [`Tx::purge_stopped`] first.
    pub async fn purge_removal(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<usize> {
        // Grants and gates of its own go with it.
        self.must_revalidate();
        let all: Vec<Uuid> = credential::table
            .filter(credential::removal_id.eq(id))
            .filter(credential::purged_at.is_null())
            .select(credential::id)
            .load(self.conn()?)
            .await?;
        for credential in &all {
            diesel::select(purge_credential(*credential, now))
                .execute(self.conn()?)
                .await?;
        }
        diesel::delete(attachment::table.filter(attachment::removal_id.eq(id)))
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
        limit: i64,
    ) -> Result<Vec<RemovalRow>> {
        let query = removal::table
            .filter(removal::restored_at.is_null())
            .filter(removal::purged_at.is_null())
            .filter(removal::removed_at.lt(before))
            .order(removal::removed_at)
            .limit(limit)
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
