//! Names that people see without access, and access requests.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::{AccessRequestState, Level, may_decide_access_request};
use uuid::Uuid;

use crate::credential_lists::part;
use crate::people::one_row;
use crate::rows_of::rows_of;
use crate::schema::{
    access_request, access_request_row, access_requests_for, discoverable_for, discoverable_row,
    is_discoverable,
};
use crate::stored::Stored;
use crate::tx::end_of_time;
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
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = access_request_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AccessRequestView {
    pub id: Uuid,
    pub credential_id: Uuid,
    pub place: String,
    pub person_id: Uuid,
    pub person_name: String,
    pub held: i16,
    pub reason: String,
    pub state: Stored<AccessRequestState>,
    pub asked_at: DateTime<Utc>,
    pub decided_by_name: Option<String>,
    pub comment: String,
    /// The one who looks.
    pub viewer: Uuid,
    /// The level that the one who looks holds on the credential.
    pub viewer_held: Option<i16>,
}

/// Something of which somebody sees the name alone.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = discoverable_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct DiscoverableView {
    pub id: Uuid,
    pub name: String,
    pub place: String,
    pub kind: String,
    /// Whether an access request of theirs for it waits.
    pub asked: bool,
}

impl AccessRequestView {
    /// Whether the one who looks may decide it.
    #[must_use]
    pub fn may_decide(&self) -> bool {
        let held = self.viewer_held.and_then(Level::from_number);
        may_decide_access_request(self.person_id, self.viewer, held)
    }
}

impl Tx {
    /// Credentials with a text in their name that somebody holds nothing on, in the order of names;
    /// not those in closed folders.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn discoverable(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        text: &str,
        after: Option<(String, Uuid)>,
        limit: i64,
    ) -> Result<Vec<DiscoverableView>> {
        let (after_name, after_id) = after.unwrap_or_default();
        let query = rows_of(
            discoverable_for(
                viewer,
                now,
                part(text),
                after_name.to_lowercase(),
                after_id,
                limit,
            ),
            discoverable_row::table,
            DiscoverableView::as_select(),
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// Whether somebody may see the name of a credential that they hold nothing on: it is there,
    /// and no closed folder keeps it to itself.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn is_discoverable(
        &mut self,
        viewer: Uuid,
        credential: Uuid,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(diesel::select(is_discoverable(viewer, credential, now))
            .get_result(self.conn()?)
            .await?)
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
        let query = rows_of(
            access_requests_for(viewer, now, Some(id), false, end_of_time(), Uuid::max(), 1),
            access_request_row::table,
            AccessRequestView::as_select(),
        );
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The access requests that concern somebody: their own, and those that they may settle; the
    /// waiting ones first, then the newest.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn access_requests(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        after: Option<(bool, DateTime<Utc>, Uuid)>,
        limit: i64,
    ) -> Result<Vec<AccessRequestView>> {
        let (settled, before, before_id) = after.unwrap_or((false, end_of_time(), Uuid::max()));
        let query = rows_of(
            access_requests_for(viewer, now, None::<Uuid>, settled, before, before_id, limit),
            access_request_row::table,
            AccessRequestView::as_select(),
        );
        Ok(query.load(self.conn()?).await?)
    }
}
