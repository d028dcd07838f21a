//! Personal folders: sealed rows that nobody can open without the owner's passphrase.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{personal_folder, personal_item};
use crate::{Result, Tx};

/// A personal folder.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = personal_folder)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PersonalFolderRow {
    pub person_id: Uuid,
    pub organisation: Uuid,
    pub salt: Vec<u8>,
    pub sealed_key: Vec<u8>,
    pub made_at: DateTime<Utc>,
    pub revision: i32,
}

/// One item, sealed whole.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = personal_item)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PersonalItemRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub person_id: Uuid,
    pub sealed: Vec<u8>,
    pub changed_at: DateTime<Utc>,
    pub revision: i32,
}

impl Tx {
    /// Somebody's personal folder, if they have one.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn personal_folder(&mut self, person: Uuid) -> Result<Option<PersonalFolderRow>> {
        Ok(personal_folder::table
            .find(person)
            .select(PersonalFolderRow::as_select())
            .first(self.conn()?)
            .await
            .optional()?)
    }

    /// Adds it.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when they have one.
    pub async fn add_personal_folder(&mut self, row: &PersonalFolderRow) -> Result<()> {
        diesel::insert_into(personal_folder::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Writes back what protects it, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn protect_personal_folder(&mut self, row: &PersonalFolderRow) -> Result<()> {
        let query = diesel::update(
            personal_folder::table
                .find(row.person_id)
                .filter(personal_folder::revision.eq(row.revision)),
        )
        .set((
            personal_folder::salt.eq(&row.salt),
            personal_folder::sealed_key.eq(&row.sealed_key),
            personal_folder::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// The items of somebody's personal folder.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn personal_items(&mut self, person: Uuid) -> Result<Vec<PersonalItemRow>> {
        let query = personal_item::table
            .filter(personal_item::person_id.eq(person))
            .order(personal_item::id)
            .select(PersonalItemRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// One of them.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`], also when it is somebody else's.
    pub async fn personal_item(&mut self, person: Uuid, id: Uuid) -> Result<PersonalItemRow> {
        let query = personal_item::table
            .find(id)
            .filter(personal_item::person_id.eq(person))
            .select(PersonalItemRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// Adds one.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_personal_item(&mut self, row: &PersonalItemRow) -> Result<()> {
        diesel::insert_into(personal_item::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Writes one back under its next revision, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn edit_personal_item(&mut self, row: &PersonalItemRow) -> Result<()> {
        let query = diesel::update(
            personal_item::table
                .find(row.id)
                .filter(personal_item::person_id.eq(row.person_id))
                .filter(personal_item::revision.eq(row.revision)),
        )
        .set((
            personal_item::sealed.eq(&row.sealed),
            personal_item::changed_at.eq(row.changed_at),
            personal_item::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Removes one permanently.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn remove_personal_item(
        &mut self,
        person: Uuid,
        id: Uuid,
        revision: i32,
    ) -> Result<()> {
        let query = diesel::delete(
            personal_item::table
                .find(id)
                .filter(personal_item::person_id.eq(person))
                .filter(personal_item::revision.eq(revision)),
        );
        one_row(query.execute(self.conn()?).await?)
    }
}
