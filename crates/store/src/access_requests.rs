//! What somebody sees the name of and no more, and the access requests for it.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::access::AccessRequestState;
use uuid::Uuid;

use crate::credential_lists::part;
use crate::people::one_row;
use crate::schema::access_request;
use crate::sql::statement;
use crate::stored::Stored;
use crate::{Result, Tx};

/// An access request for a level on a credential.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = access_request)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AccessRequestRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub person_id: Uuid,
    pub held: i16,
    pub reason: String,
    pub state: Stored<AccessRequestState>,
    pub asked_at: DateTime<Utc>,
    pub decided_at: Option<DateTime<Utc>>,
    pub decided_by: Option<Uuid>,
    pub comment: String,
}

/// An access request with the names that people know.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AccessRequestView {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    pub credential_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Uuid)]
    pub person_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub person_name: String,
    #[diesel(sql_type = sql_types::SmallInt)]
    pub held: i16,
    #[diesel(sql_type = sql_types::Text)]
    pub reason: String,
    #[diesel(sql_type = sql_types::Text)]
    pub state: Stored<AccessRequestState>,
    #[diesel(sql_type = sql_types::Timestamptz)]
    pub asked_at: DateTime<Utc>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub decided_by_name: Option<String>,
    #[diesel(sql_type = sql_types::Text)]
    pub comment: String,
    /// Whether the one who looks is a steward of the credential and somebody else than the asker.
    #[diesel(sql_type = sql_types::Bool)]
    pub may_decide: bool,
}

/// Something of which somebody sees the name alone.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct DiscoverableView {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Text)]
    pub kind: String,
    /// Whether an access request of theirs for it waits.
    #[diesel(sql_type = sql_types::Bool)]
    pub asked: bool,
}

const ACCESS_REQUESTS: &str =
    "SELECT w.id, w.credential_id, coalesce(path_of(c.folder_id), '') || '/' || c.name AS place, w.person_id, p.display_name AS person_name,
    w.held, w.reason, w.state, w.asked_at, d.display_name AS decided_by_name, w.comment,
    w.person_id <> $1 AND c.removed_at IS NULL AND coalesce(level_on_credential($1, c.id, $2), 0) = 5 AS may_decide
    FROM access_request w JOIN credential c ON c.id = w.credential_id JOIN person p ON p.id = w.person_id LEFT JOIN person d ON d.id = w.decided_by";

impl Tx {
    /// Credentials with a text in their name that somebody holds nothing on, in the order of names; not
    /// those in closed folders.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn discoverable(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        text: &str,
        after: Option<(String, Uuid)>,
        most: i64,
    ) -> Result<Vec<DiscoverableView>> {
        let (after_name, after_id) = after.unwrap_or_default();
        let sql = "SELECT c.id, c.name, coalesce(path_of(c.folder_id), '') AS place, c.kind,
                EXISTS (SELECT FROM access_request w WHERE w.credential_id = c.id AND w.person_id = $1 AND w.state = 'waiting') AS asked
             FROM discoverable($1, $2, $3, $4, $5, $6) AS found(id) JOIN credential c USING (id) ORDER BY lower(c.name), c.id";
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Text, _>(part(text))
            .bind::<sql_types::Text, _>(after_name.to_lowercase())
            .bind::<sql_types::Uuid, _>(after_id)
            .bind::<sql_types::BigInt, _>(most);
        Ok(query.load(self.conn()?).await?)
    }

    /// Whether somebody may see the name of a credential that they hold nothing on: it is there, and no
    /// closed folder keeps it to itself.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn is_discoverable(
        &mut self,
        viewer: Uuid,
        credential: Uuid,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        #[derive(QueryableByName)]
        struct Found {
            #[diesel(sql_type = sql_types::Bool)]
            found: bool,
        }
        let sql = "SELECT EXISTS (SELECT FROM credential c WHERE c.id = $2 AND c.removed_at IS NULL AND open_to_the_top(c.folder_id)
                AND level_on_credential($1, c.id, $3) IS NULL) AS found";
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Uuid, _>(credential)
            .bind::<sql_types::Timestamptz, _>(now);
        let row: Found = query.get_result(self.conn()?).await?;
        Ok(row.found)
    }

    /// Adds an access request.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when one of theirs for it waits already.
    pub async fn add_access_request(&mut self, row: &AccessRequestRow) -> Result<()> {
        diesel::insert_into(access_request::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// An access request, held until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn access_request_locked(&mut self, id: Uuid) -> Result<AccessRequestRow> {
        Ok(access_request::table
            .find(id)
            .select(AccessRequestRow::as_select())
            .for_update()
            .first(self.conn()?)
            .await?)
    }

    /// Settles an access request.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn settle_access_request(&mut self, row: &AccessRequestRow) -> Result<()> {
        let query = diesel::update(access_request::table.find(row.id)).set((
            access_request::state.eq(&row.state),
            access_request::decided_at.eq(row.decided_at),
            access_request::decided_by.eq(row.decided_by),
            access_request::comment.eq(&row.comment),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// An access request as somebody sees it.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn access_request_view(
        &mut self,
        viewer: Uuid,
        id: Uuid,
        now: DateTime<Utc>,
    ) -> Result<AccessRequestView> {
        let sql = format!("{ACCESS_REQUESTS} WHERE w.id = $3");
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Uuid, _>(id);
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The access requests that concern somebody: their own, and those that they may settle; the waiting ones
    /// first, then the newest.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn access_requests(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<AccessRequestView>> {
        let sql = format!(
            "SELECT * FROM ({ACCESS_REQUESTS}) q WHERE q.person_id = $1 OR q.may_decide ORDER BY q.state <> 'waiting', q.asked_at DESC, q.id DESC LIMIT $3"
        );
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::BigInt, _>(most);
        Ok(query.load(self.conn()?).await?)
    }
}
