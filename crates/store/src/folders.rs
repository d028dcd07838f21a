//! Folders: the tree, its sources, what somebody sees of it.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{credential, device, folder, path_of};
use crate::sql::statement;
use crate::{Result, Tx};

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
    pub version: i32,
}

/// A folder as somebody sees it.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct VisibleFolder {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub parent_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Bool)]
    pub closed: bool,
    #[diesel(sql_type = sql_types::Int4)]
    pub version: i32,
    /// The level held on it; none when it is only on the path to something deeper.
    #[diesel(sql_type = sql_types::Nullable<sql_types::SmallInt>)]
    pub held: Option<i16>,
    /// A grant stands on itself.
    #[diesel(sql_type = sql_types::Bool)]
    pub own_grants: bool,
    /// One of these is to somebody else.
    #[diesel(sql_type = sql_types::Bool)]
    pub to_others: bool,
}

#[derive(QueryableByName)]
struct Id {
    #[diesel(sql_type = sql_types::Uuid)]
    id: Uuid,
}

impl Tx {
    /// Adds a folder.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the name is taken there.
    pub async fn add_folder(&mut self, row: &FolderRow) -> Result<()> {
        self.lock_tree().await?;
        diesel::insert_into(folder::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        self.refresh_sources(row.id).await
    }

    /// Moves of folders happen one after the other, so that two of them cannot make a ring.
    pub(crate) async fn lock_tree(&mut self) -> Result<()> {
        let sql = "SELECT pg_advisory_xact_lock(hashtextextended(scope()::text, 41))";
        statement(sql).execute(self.conn()?).await?;
        Ok(())
    }

    pub(crate) async fn refresh_sources(&mut self, id: Uuid) -> Result<()> {
        statement("SELECT refresh_sources($1)")
            .bind::<sql_types::Uuid, _>(id)
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

    /// Whether `id` is `under` or stands above it. Holds the tree until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn would_ring(&mut self, id: Uuid, under: Uuid) -> Result<bool> {
        self.lock_tree().await?;
        let rows: Vec<Id> = statement("SELECT s AS id FROM subtree_of($1) AS s WHERE s = $2")
            .bind::<sql_types::Uuid, _>(id)
            .bind::<sql_types::Uuid, _>(under)
            .load(self.conn()?)
            .await?;
        Ok(rows.iter().any(|row| row.id == under))
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
    pub async fn height_of(&mut self, id: Uuid) -> Result<usize> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = sql_types::Integer)]
            height: i32,
        }
        let sql = "WITH RECURSIVE down(id, height) AS (
                SELECT $1::uuid, 1
                UNION ALL
                SELECT f.id, down.height + 1 FROM down JOIN folder f ON f.parent_id = down.id WHERE f.removed_at IS NULL AND down.height < 1000
             ) SELECT max(height) AS height FROM down";
        let row: Row = statement(sql)
            .bind::<sql_types::Uuid, _>(id)
            .get_result(self.conn()?)
            .await?;
        Ok(usize::try_from(row.height).unwrap_or(0))
    }

    /// Writes a folder back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn change_folder(&mut self, row: &FolderRow) -> Result<()> {
        self.lock_tree().await?;
        self.must_examine();
        let query = diesel::update(
            folder::table
                .find(row.id)
                .filter(folder::version.eq(row.version)),
        )
        .set((
            folder::parent_id.eq(row.parent_id),
            folder::name.eq(&row.name),
            folder::closed.eq(row.closed),
            folder::removed_at.eq(row.removed_at),
            folder::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.refresh_sources(row.id).await?;
        self.plan_again_below(row.id).await
    }

    /// Whether nothing that is not removed lives in a folder.
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
        let sql = "
            WITH RECURSIVE mine AS MATERIALIZED (
                SELECT g.folder_id, g.credential_id, g.only_kind, g.only_tag, max(g.held) AS held FROM access_grant g
                WHERE (g.person_id = $1 OR g.group_id = ANY ((SELECT subjects_of($1))::uuid[])) AND (g.ends_at IS NULL OR $2 < g.ends_at)
                GROUP BY 1, 2, 3, 4
            ), reached AS MATERIALIZED (
                SELECT s.folder_id AS id, max(m.held) AS held FROM mine m JOIN folder_source s ON s.source_id = m.folder_id
                WHERE m.only_kind IS NULL AND m.only_tag IS NULL GROUP BY 1
            ), seen(id) AS (
                SELECT id FROM reached
                UNION
                SELECT c.folder_id FROM mine m JOIN credential c ON c.id = m.credential_id WHERE c.removed_at IS NULL
                UNION
                SELECT c.folder_id FROM mine m JOIN folder_source s ON s.source_id = m.folder_id JOIN credential c ON c.folder_id = s.folder_id
                WHERE (m.only_kind IS NOT NULL OR m.only_tag IS NOT NULL) AND c.removed_at IS NULL
                  AND (m.only_kind IS NULL OR m.only_kind = c.kind) AND (m.only_tag IS NULL OR m.only_tag = ANY (c.tags))
                UNION
                SELECT f.parent_id FROM seen JOIN folder f ON f.id = seen.id WHERE f.parent_id IS NOT NULL
            ), own AS MATERIALIZED (
                SELECT g.folder_id AS id, bool_or(g.person_id IS DISTINCT FROM $1) AS to_others FROM access_grant g
                WHERE g.folder_id IS NOT NULL AND (g.ends_at IS NULL OR $2 < g.ends_at) GROUP BY 1
            )
            SELECT f.id, f.parent_id, f.name, f.closed, f.version, r.held, own.id IS NOT NULL AS own_grants, coalesce(own.to_others, false) AS to_others
            FROM seen JOIN folder f ON f.id = seen.id LEFT JOIN reached r ON r.id = f.id LEFT JOIN own ON own.id = f.id
            WHERE f.removed_at IS NULL ORDER BY lower(f.name), f.id";
        Ok(statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?)
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
