//! Folders: the tree, its sources, what somebody sees of it.

use chrono::{DateTime, Utc};
use diesel::dsl::exists;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::rows_of::rows_of;
use crate::schema::{
    credential, device, folder, path_of, refresh_sources, refresh_sources_of, subtree_height,
    visible_folder_row, visible_folders,
};
use crate::tx::Lock;
use crate::{Result, StoreError, Tx};

/// A folder.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = folder)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct FolderRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub parent_id: Option<Uuid>,
    pub name: String,
    pub closed: bool,
    pub created_at: DateTime<Utc>,
    pub created_by: Option<Uuid>,
    pub removed_at: Option<DateTime<Utc>>,
    pub revision: i32,
}

/// A folder as somebody sees it.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = visible_folder_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct VisibleFolder {
    pub id: Uuid,
    pub parent_id: Option<Uuid>,
    pub name: String,
    pub closed: bool,
    pub revision: i32,
    /// The level held on it; none when it is only on the path to something deeper.
    pub held: Option<i16>,
    /// It has grants of its own.
    pub own_grants: bool,
    /// One of these is to somebody else.
    pub to_others: bool,
}

impl Tx {
    /// Adds a folder. Others may add folders meanwhile, but none is moved, closed or removed until
    /// the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the name is taken there;
    /// [`crate::StoreError::NotFound`] when the folder that it is in is removed.
    pub async fn add_folder(&mut self, row: &FolderRow) -> Result<()> {
        self.hold_shared(Lock::Tree).await?;
        if let Some(parent) = row.parent_id {
            self.refuse_if_any_removed(&[parent]).await?;
        }
        diesel::insert_into(folder::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        self.refresh_sources_of(vec![row.id]).await
    }

    /// Refuses where one of these folders is in the bin.
    pub(crate) async fn refuse_if_any_removed(&mut self, folders: &[Uuid]) -> Result<()> {
        let removed = folder::table
            .filter(folder::id.eq_any(folders))
            .filter(folder::removed_at.is_not_null());
        if diesel::select(exists(removed))
            .get_result(self.conn()?)
            .await?
        {
            return Err(StoreError::NotFound);
        }
        Ok(())
    }

    /// The sources of new folders, and of none below them.
    pub(crate) async fn refresh_sources_of(&mut self, folders: Vec<Uuid>) -> Result<()> {
        diesel::select(refresh_sources_of(folders))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Moves of folders happen one after the other, so that two of them cannot make a ring.
    pub(crate) async fn lock_tree(&mut self) -> Result<()> {
        self.hold(Lock::Tree).await
    }

    pub(crate) async fn refresh_sources(&mut self, id: Uuid) -> Result<()> {
        diesel::select(refresh_sources(id))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A folder that is not removed.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn folder(&mut self, id: Uuid) -> Result<FolderRow> {
        let query = folder::table
            .find(id)
            .filter(folder::removed_at.is_null())
            .select(FolderRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// The path of a folder, such as `/Pumping/North ridge`.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn path_of(&mut self, id: Uuid) -> Result<String> {
        let path: Option<String> = diesel::select(path_of(id)).get_result(self.conn()?).await?;
        Ok(path.unwrap_or_default())
    }

    /// Whether `id` is `under` or is above it. Holds the tree until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn would_ring(&mut self, id: Uuid, under: Uuid) -> Result<bool> {
        self.lock_tree().await?;
        Ok(self.subtree(id).await?.contains(&under))
    }

    /// How many folders are above a place, itself included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn depth_of(&mut self, id: Uuid) -> Result<usize> {
        Ok(self.path_of(id).await?.matches('/').count())
    }

    /// How many folders are below each other in it, itself counted.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn subtree_height(&mut self, id: Uuid) -> Result<usize> {
        let height: i32 = diesel::select(subtree_height(id))
            .get_result(self.conn()?)
            .await?;
        Ok(usize::try_from(height).unwrap_or(0))
    }

    /// Writes a folder back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn edit_folder(&mut self, row: &FolderRow) -> Result<()> {
        self.lock_tree().await?;
        self.must_revalidate();
        let query = diesel::update(
            folder::table
                .find(row.id)
                .filter(folder::revision.eq(row.revision)),
        )
        .set((
            folder::parent_id.eq(row.parent_id),
            folder::name.eq(&row.name),
            folder::closed.eq(row.closed),
            folder::removed_at.eq(row.removed_at),
            folder::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.refresh_sources(row.id).await?;
        self.plan_again_below(row.id).await
    }

    /// Whether nothing that is not removed is in a folder.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn folder_is_empty(&mut self, id: Uuid) -> Result<bool> {
        let folders: i64 = folder::table
            .filter(folder::parent_id.eq(id))
            .filter(folder::removed_at.is_null())
            .count()
            .get_result(self.conn()?)
            .await?;
        let credentials: i64 = credential::table
            .filter(credential::folder_id.eq(id))
            .filter(credential::removed_at.is_null())
            .count()
            .get_result(self.conn()?)
            .await?;
        let devices: i64 = device::table
            .filter(device::folder_id.eq(id))
            .filter(device::removed_at.is_null())
            .count()
            .get_result(self.conn()?)
            .await?;
        Ok(folders + credentials + devices == 0)
    }

    /// The folders that somebody sees: those a grant reaches, those that hold a credential a grant
    /// reaches, and the path to each.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn visible_folders(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Vec<VisibleFolder>> {
        let query = rows_of(
            visible_folders(person, now),
            visible_folder_row::table,
            VisibleFolder::as_select(),
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// A folder's child of a name.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn child_folder(
        &mut self,
        parent: Option<Uuid>,
        name: &str,
    ) -> Result<Option<FolderRow>> {
        let mut query = folder::table
            .filter(folder::removed_at.is_null())
            .filter(crate::schema::lower(folder::name).eq(crate::schema::lower(name)))
            .select(FolderRow::as_select())
            .into_boxed();
        query = match parent {
            Some(parent) => query.filter(folder::parent_id.eq(parent)),
            None => query.filter(folder::parent_id.is_null()),
        };
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// All folders, for the plain definition of access.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn all_folders(&mut self) -> Result<Vec<FolderRow>> {
        Ok(folder::table
            .filter(folder::removed_at.is_null())
            .select(FolderRow::as_select())
            .load(self.conn()?)
            .await?)
    }
}
