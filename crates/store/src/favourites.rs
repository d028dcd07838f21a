//! What each person keeps for themselves about credentials: favourites, what they used, searches.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::schema::{favourite, lower, saved_search};
use crate::sql::statement;
use crate::{Result, StoreError, Tx};

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
}

#[derive(QueryableByName)]
struct Target {
    #[diesel(sql_type = sql_types::Uuid)]
    target: Uuid,
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
        most: i64,
    ) -> Result<Vec<Uuid>> {
        let order = if most_often {
            "count(*) DESC, max(seq) DESC"
        } else {
            "max(seq) DESC"
        };
        let sql = format!(
            "SELECT target FROM (
                SELECT e.target, e.seq FROM audit_event e
                WHERE e.actor = $1 AND e.action IN ('credential.reveal', 'credential.code') AND e.outcome = 'done' AND e.target IS NOT NULL
                ORDER BY e.seq DESC LIMIT 2000
             ) looks GROUP BY target ORDER BY {order} LIMIT $2"
        );
        let rows: Vec<Target> = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::BigInt, _>(most)
            .load(self.conn()?)
            .await?;
        Ok(rows.into_iter().map(|row| row.target).collect())
    }

    /// Who looked at or used a credential last, and when, each person once.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn users_of(
        &mut self,
        credential: Uuid,
        most: i64,
    ) -> Result<Vec<(Uuid, DateTime<Utc>, i64)>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = sql_types::Uuid)]
            actor: Uuid,
            #[diesel(sql_type = sql_types::Timestamptz)]
            last: DateTime<Utc>,
            #[diesel(sql_type = sql_types::BigInt)]
            times: i64,
        }
        let sql = "SELECT actor, max(at) AS last, count(*) AS times FROM (
                SELECT e.actor, e.at FROM audit_event e
                WHERE e.target = $1 AND e.action IN ('credential.reveal', 'credential.code') AND e.outcome = 'done' AND e.actor IS NOT NULL
                ORDER BY e.seq DESC LIMIT 5000
             ) looks GROUP BY actor ORDER BY max(at) DESC LIMIT $2";
        let rows: Vec<Row> = statement(sql)
            .bind::<sql_types::Uuid, _>(credential)
            .bind::<sql_types::BigInt, _>(most)
            .load(self.conn()?)
            .await?;
        Ok(rows
            .into_iter()
            .map(|row| (row.actor, row.last, row.times))
            .collect())
    }

    /// Somebody's saved searches, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn saved_searches(&mut self, person: Uuid) -> Result<Vec<SavedSearchRow>> {
        let query = saved_search::table
            .filter(saved_search::person_id.eq(person))
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
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = sql_types::Text)]
            tag: String,
            #[diesel(sql_type = sql_types::BigInt)]
            times: i64,
        }
        let sql = "SELECT t.tag, count(*) AS times FROM credential c, unnest(c.tags) AS t(tag)
             WHERE c.removed_at IS NULL AND c.tags <> '{}' AND level_on_credential($1, c.id, $2) IS NOT NULL GROUP BY 1 ORDER BY lower(t.tag) LIMIT 1000";
        let rows: Vec<Row> = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?;
        Ok(rows.into_iter().map(|row| (row.tag, row.times)).collect())
    }
}
