//! Favourites, recent use and saved searches of each person.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{
    favourite, lower, saved_search, seen_by, seen_row, tag_row, tags_for, used_by, user_row,
    users_of,
};
use crate::{Result, StoreError, Tx};

/// A credential whose secret somebody has seen.
#[derive(Clone, Debug, Queryable)]
pub struct SeenRow {
    /// The credential.
    pub credential: Uuid,
    /// When last.
    pub last: DateTime<Utc>,
    /// How often.
    pub times: i64,
    /// Since when its main secret is what it is, if it has one.
    pub made_at: Option<DateTime<Utc>>,
}

/// A search that somebody saved.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = saved_search)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SavedSearchRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub person_id: Uuid,
    pub name: String,
    pub body: serde_json::Value,
    pub page: String,
}

impl Tx {
    /// Marks a credential as a favourite, or takes the mark away.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn mark_favourite(
        &mut self,
        person: Uuid,
        credential: Uuid,
        marked: bool,
    ) -> Result<()> {
        let organisation = self.organisation();
        if marked {
            diesel::insert_into(favourite::table)
                .values((
                    favourite::organisation.eq(organisation),
                    favourite::person_id.eq(person),
                    favourite::credential_id.eq(credential),
                ))
                .on_conflict_do_nothing()
                .execute(self.conn()?)
                .await?;
        } else {
            diesel::delete(favourite::table.find((person, credential)))
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// Whether a credential is one of somebody's favourites.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn is_favourite(&mut self, person: Uuid, credential: Uuid) -> Result<bool> {
        let query = diesel::select(diesel::dsl::exists(
            favourite::table.find((person, credential)),
        ));
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The credentials that somebody looked at or used, by the audit log itself: the latest first,
    /// or those most often used within their last two thousand looks.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn used_by(
        &mut self,
        person: Uuid,
        most_often: bool,
        limit: i64,
    ) -> Result<Vec<Uuid>> {
        Ok(diesel::select(used_by(person, most_often, limit))
            .load(self.conn()?)
            .await?)
    }

    /// Who looked at or used a credential last, and when, each person once.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn users_of(
        &mut self,
        credential: Uuid,
        limit: i64,
    ) -> Result<Vec<(Uuid, DateTime<Utc>, i64)>> {
        let query = rows_of(
            users_of(credential, limit),
            user_row::table,
            user_row::all_columns,
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// What secrets somebody has seen, the latest first: when last, how often, and since when the
    /// main secret is what it is.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn seen_by(&mut self, person: Uuid, limit: i64) -> Result<Vec<SeenRow>> {
        let query = rows_of(
            seen_by(person, limit),
            seen_row::table,
            seen_row::all_columns,
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// Somebody's saved searches of a page, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn saved_searches(
        &mut self,
        person: Uuid,
        page: &str,
    ) -> Result<Vec<SavedSearchRow>> {
        let query = saved_search::table
            .filter(saved_search::person_id.eq(person))
            .filter(saved_search::page.eq(page))
            .order(lower(saved_search::name))
            .select(SavedSearchRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Saves a search.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the person has one of this name.
    pub async fn save_search(&mut self, row: &SavedSearchRow) -> Result<()> {
        diesel::insert_into(saved_search::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Forgets a saved search.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remove_search(&mut self, person: Uuid, id: Uuid) -> Result<()> {
        let query = diesel::delete(
            saved_search::table
                .find(id)
                .filter(saved_search::person_id.eq(person)),
        );
        if query.execute(self.conn()?).await? == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// The tags of the credentials that somebody may know of, with how many each has.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn tags_for(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Vec<(String, i64)>> {
        let query = rows_of(tags_for(person, now), tag_row::table, tag_row::all_columns);
        Ok(query.load(self.conn()?).await?)
    }
}
