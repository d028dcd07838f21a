//! Gates, requests, checkouts.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::gate::{Checkout, Gate, GateRevision, GateSet};
use jexlin_core::gate::{CheckoutEnd, RequestState};
use uuid::Uuid;

use crate::people::one_row;
use crate::rows_of::rows_of;
use crate::schema::{
    approvers_at, checkout, checkout_gate, checkout_view, gate, gate_approver, gates_of,
    gates_on_folder, open_passages, passage_row, request, request_gate, request_row, requests_for,
    set_config,
};
use crate::stored::Stored;
use crate::tx::end_of_time;
use crate::{Result, Tx};

/// A gate.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = gate)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GateRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Option<Uuid>,
    pub credential_id: Option<Uuid>,
    pub needs_reason: bool,
    pub needs_approval: bool,
    pub max_minutes: i32,
    pub one_holder: bool,
    pub rotate_on_return: bool,
    pub revision: i32,
    pub device_id: Option<Uuid>,
}

/// Who may approve at a gate.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = gate_approver)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ApproverRow {
    pub organisation: Uuid,
    pub gate_id: Uuid,
    pub subject: Uuid,
    pub subject_is_group: bool,
}

/// A gate with the place it is on and its approvers.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GateView {
    pub gate: GateRow,
    pub place: String,
    pub approvers: Vec<ApproverRow>,
}

/// A request.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = request)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RequestRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub person_id: Uuid,
    pub reason: String,
    pub minutes: i32,
    pub state: Stored<RequestState>,
    pub asked_at: DateTime<Utc>,
    pub expires_at: DateTime<Utc>,
    pub decided_at: Option<DateTime<Utc>>,
    pub decided_by: Option<Uuid>,
    pub comment: String,
    pub checkout_id: Option<Uuid>,
}

/// A request with the names that people know.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = request_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RequestView {
    pub id: Uuid,
    pub credential_id: Uuid,
    pub credential_name: String,
    pub place: String,
    pub person_id: Uuid,
    pub person_name: String,
    pub reason: String,
    pub minutes: i32,
    pub state: Stored<RequestState>,
    pub asked_at: DateTime<Utc>,
    pub expires_at: DateTime<Utc>,
    pub decided_at: Option<DateTime<Utc>>,
    pub decided_by_name: Option<String>,
    pub comment: String,
    pub checkout_id: Option<Uuid>,
    /// The one who looks.
    pub viewer: Uuid,
    /// The gates of which the one who looks is an approver and that need an approval.
    pub approver_at: Vec<Uuid>,
    pub approvals_needed: i64,
    pub approvals_given: i64,
}

/// One gate that a request is for.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = request_gate)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RequestGateRow {
    pub organisation: Uuid,
    pub request_id: Uuid,
    pub gate_id: Uuid,
    pub gate_revision: i32,
    pub needs_approval: bool,
    pub approved_by: Option<Uuid>,
    pub approved_at: Option<DateTime<Utc>>,
}

/// A request that waits or a checkout that is open, with what it rests on now.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = passage_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct OpenPassage {
    pub id: Uuid,
    pub is_request: bool,
    pub credential_id: Uuid,
    pub held: Option<i16>,
    pub active: bool,
    pub gates: Vec<Uuid>,
}

/// A checkout.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = checkout)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CheckoutRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub person_id: Uuid,
    pub request_id: Option<Uuid>,
    pub reason: String,
    pub starts_at: DateTime<Utc>,
    pub ends_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    pub ended_how: Option<Stored<CheckoutEnd>>,
    pub rotate_on_return: bool,
    pub one_holder: bool,
}

/// A checkout with the names that people know.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = checkout_view)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CheckoutView {
    pub id: Uuid,
    pub credential_id: Uuid,
    pub credential_name: String,
    pub place: String,
    pub person_id: Uuid,
    pub person_name: String,
    pub reason: String,
    pub starts_at: DateTime<Utc>,
    pub ends_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    pub ended_how: Option<Stored<CheckoutEnd>>,
    pub rotate_on_return: bool,
}

impl GateRow {
    /// The gate as core knows it.
    #[must_use]
    pub const fn to_core(&self) -> Gate {
        Gate {
            id: self.id,
            revision: self.revision,
            needs_reason: self.needs_reason,
            needs_approval: self.needs_approval,
            max_minutes: self.max_minutes,
            one_holder: self.one_holder,
            rotate_on_return: self.rotate_on_return,
        }
    }
}

impl RequestView {
    /// Whether the one who looks may decide it.
    #[must_use]
    pub fn may_decide(&self) -> bool {
        jexlin_core::gate::may_decide(self.person_id, self.viewer, &self.approver_at)
    }
}

impl CheckoutRow {
    /// The checkout as core knows it, with the gates that it was taken through.
    #[must_use]
    pub const fn to_core(&self, gates: Vec<GateRevision>) -> Checkout {
        Checkout {
            id: self.id,
            credential: self.credential_id,
            person: self.person_id,
            starts_at: self.starts_at,
            ends_at: self.ends_at,
            ended_at: self.ended_at,
            rotate_on_return: self.rotate_on_return,
            gates,
        }
    }
}

impl Tx {
    /// Sets the gate of a place, with its approvers.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the place has one.
    pub async fn add_gate(&mut self, row: &GateRow, approvers: &[ApproverRow]) -> Result<()> {
        self.must_revalidate();
        diesel::insert_into(gate::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        diesel::insert_into(gate_approver::table)
            .values(approvers)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Writes a gate and its approvers back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn edit_gate(&mut self, row: &GateRow, approvers: &[ApproverRow]) -> Result<()> {
        self.must_revalidate();
        let query = diesel::update(
            gate::table
                .find(row.id)
                .filter(gate::revision.eq(row.revision)),
        )
        .set((
            gate::needs_reason.eq(row.needs_reason),
            gate::needs_approval.eq(row.needs_approval),
            gate::max_minutes.eq(row.max_minutes),
            gate::one_holder.eq(row.one_holder),
            gate::rotate_on_return.eq(row.rotate_on_return),
            gate::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        diesel::delete(gate_approver::table.filter(gate_approver::gate_id.eq(row.id)))
            .execute(self.conn()?)
            .await?;
        diesel::insert_into(gate_approver::table)
            .values(approvers)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Removes a gate.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn remove_gate(&mut self, id: Uuid, revision: i32) -> Result<()> {
        self.must_revalidate();
        one_row(
            diesel::delete(gate::table.find(id).filter(gate::revision.eq(revision)))
                .execute(self.conn()?)
                .await?,
        )
    }

    /// A gate.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn gate(&mut self, id: Uuid) -> Result<GateRow> {
        Ok(gate::table
            .find(id)
            .select(GateRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// A gate with its place and approvers.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn gate_view(&mut self, id: Uuid) -> Result<GateView> {
        let row = self.gate(id).await?;
        let approvers = gate_approver::table
            .filter(gate_approver::gate_id.eq(id))
            .select(ApproverRow::as_select())
            .load(self.conn()?)
            .await?;
        let place = match (row.folder_id, row.credential_id, row.device_id) {
            (Some(folder), ..) => self.path_of(folder).await?,
            (None, None, Some(device)) => {
                let device = self.device(device).await?;
                format!("{}/{}", self.path_of(device.folder_id).await?, device.name)
            }
            (None, Some(credential), _) => {
                let credential = self.credential(credential).await?;
                format!(
                    "{}/{}",
                    self.path_of(credential.folder_id).await?,
                    credential.name
                )
            }
            (None, None, None) => String::new(),
        };
        Ok(GateView {
            gate: row,
            place,
            approvers,
        })
    }

    /// All gates.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn gates(&mut self) -> Result<Vec<GateRow>> {
        Ok(gate::table
            .order(gate::id)
            .select(GateRow::as_select())
            .load(self.conn()?)
            .await?)
    }

    /// All gates on the way to a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn gates_of(&mut self, credential: Uuid) -> Result<GateSet> {
        let ids = self.gate_ids_of(credential).await?;
        self.gate_set(&ids).await
    }

    /// The identifiers of all gates on the way to a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn gate_ids_of(&mut self, credential: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(gates_of(credential))
            .get_result(self.conn()?)
            .await?)
    }

    /// The identifiers of all gates on the way to a folder, its own included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn gate_ids_on_folder(&mut self, folder: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(gates_on_folder(folder))
            .get_result(self.conn()?)
            .await?)
    }

    /// Gates by their identifiers.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn gate_set(&mut self, ids: &[Uuid]) -> Result<GateSet> {
        if ids.is_empty() {
            return Ok(GateSet::default());
        }
        let rows: Vec<GateRow> = gate::table
            .filter(gate::id.eq_any(ids))
            .select(GateRow::as_select())
            .load(self.conn()?)
            .await?;
        Ok(GateSet::new(rows.iter().map(GateRow::to_core).collect()))
    }

    /// Of these gates, those of which somebody is an approver, directly or through a group.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn approves_at(&mut self, gates: &[Uuid], person: Uuid) -> Result<Vec<Uuid>> {
        let subjects = self.subjects_of(person).await?;
        let query = gate_approver::table
            .filter(gate_approver::gate_id.eq_any(gates))
            .filter(gate_approver::subject.eq_any(subjects))
            .select(gate_approver::gate_id)
            .distinct();
        Ok(query.load(self.conn()?).await?)
    }

    /// The active people who may approve at a gate, directly or through groups.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn approvers_at(&mut self, gate: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(approvers_at(gate))
            .load(self.conn()?)
            .await?)
    }

    /// The gates that a request is for.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn request_gates(&mut self, request: Uuid) -> Result<Vec<RequestGateRow>> {
        let query = request_gate::table
            .filter(request_gate::request_id.eq(request))
            .order(request_gate::gate_id)
            .select(RequestGateRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes an approval at gates of a request.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn approve_at(
        &mut self,
        request: Uuid,
        gates: &[Uuid],
        by: Uuid,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let of = request_gate::table
            .filter(request_gate::request_id.eq(request))
            .filter(request_gate::gate_id.eq_any(gates));
        diesel::update(of)
            .set((
                request_gate::approved_by.eq(by),
                request_gate::approved_at.eq(now),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The gates that a checkout was taken through.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn checkout_gates(&mut self, checkout: Uuid) -> Result<Vec<GateRevision>> {
        let query = checkout_gate::table
            .filter(checkout_gate::checkout_id.eq(checkout))
            .select((checkout_gate::gate_id, checkout_gate::gate_revision));
        Ok(query.load(self.conn()?).await?)
    }

    /// All requests that wait or may be used and all open checkouts, with what they rest on now;
    /// held until the transaction ends. The revalidation that is due counts as done with this.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn open_passages(&mut self, now: DateTime<Utc>) -> Result<Vec<OpenPassage>> {
        let query = rows_of(
            open_passages(now),
            passage_row::table,
            OpenPassage::as_select(),
        );
        let rows = query.load(self.conn()?).await?;
        diesel::select(set_config("jexlin.revalidate", "", true))
            .execute(self.conn()?)
            .await?;
        self.revalidated();
        Ok(rows)
    }

    /// Adds a request for gates as they are now.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_request(&mut self, row: &RequestRow, gates: &GateSet) -> Result<()> {
        diesel::insert_into(request::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        let gates: Vec<RequestGateRow> = gates
            .gates()
            .iter()
            .map(|gate| RequestGateRow {
                organisation: row.organisation,
                request_id: row.id,
                gate_id: gate.id,
                gate_revision: gate.revision,
                needs_approval: gate.needs_approval,
                approved_by: None,
                approved_at: None,
            })
            .collect();
        diesel::insert_into(request_gate::table)
            .values(gates)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A request, kept from changes until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn request_locked(&mut self, id: Uuid) -> Result<RequestRow> {
        Ok(request::table
            .find(id)
            .select(RequestRow::as_select())
            .for_update()
            .first(self.conn()?)
            .await?)
    }

    /// Writes a request back; it must be locked.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn change_request(&mut self, row: &RequestRow) -> Result<()> {
        let query = diesel::update(request::table.find(row.id)).set((
            request::state.eq(&row.state),
            request::decided_at.eq(row.decided_at),
            request::decided_by.eq(row.decided_by),
            request::comment.eq(&row.comment),
            request::checkout_id.eq(row.checkout_id),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// A request as somebody sees it.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn request_view(&mut self, viewer: Uuid, id: Uuid) -> Result<RequestView> {
        let query = rows_of(
            requests_for(
                viewer,
                Some(vec![id]),
                None::<String>,
                None::<Uuid>,
                end_of_time(),
                Uuid::max(),
                1,
            ),
            request_row::table,
            RequestView::as_select(),
        );
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The requests that concern somebody: their own, and those they may decide; newest first.
    /// `state` narrows them down; `credential` to one credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn requests(
        &mut self,
        viewer: Uuid,
        state: Option<RequestState>,
        credential: Option<Uuid>,
        before: Option<(DateTime<Utc>, Uuid)>,
        limit: i64,
    ) -> Result<Vec<RequestView>> {
        let (before_at, before_id) = before.unwrap_or((end_of_time(), Uuid::max()));
        let query = rows_of(
            requests_for(
                viewer,
                None::<Vec<Uuid>>,
                state.map(jexlin_core::words::Word::word),
                credential,
                before_at,
                before_id,
                limit,
            ),
            request_row::table,
            RequestView::as_select(),
        );
        Ok(query.load(self.conn()?).await?)
    }

    /// The requests whose time is over and that nobody has settled.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn overdue_requests(
        &mut self,
        now: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<RequestRow>> {
        let query = request::table
            .filter(
                request::state
                    .eq(Stored(RequestState::Waiting))
                    .or(request::state
                        .eq(Stored(RequestState::Approved))
                        .and(request::checkout_id.is_null())),
            )
            .filter(request::expires_at.le(now))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(RequestRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Adds a checkout that is taken through gates as they are now.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when only one may hold it and somebody does.
    pub async fn add_checkout(&mut self, row: &CheckoutRow, gates: &GateSet) -> Result<()> {
        diesel::insert_into(checkout::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        let through: Vec<_> = gates
            .gates()
            .iter()
            .map(|gate| {
                (
                    checkout_gate::organisation.eq(row.organisation),
                    checkout_gate::checkout_id.eq(row.id),
                    checkout_gate::gate_id.eq(gate.id),
                    checkout_gate::gate_revision.eq(gate.revision),
                )
            })
            .collect();
        diesel::insert_into(checkout_gate::table)
            .values(through)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A checkout, kept from changes until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn checkout_locked(&mut self, id: Uuid) -> Result<CheckoutRow> {
        Ok(checkout::table
            .find(id)
            .select(CheckoutRow::as_select())
            .for_update()
            .first(self.conn()?)
            .await?)
    }

    /// Ends a checkout; it must be locked.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn end_checkout(
        &mut self,
        id: Uuid,
        now: DateTime<Utc>,
        how: CheckoutEnd,
    ) -> Result<()> {
        let query = diesel::update(
            checkout::table
                .find(id)
                .filter(checkout::ended_at.is_null()),
        )
        .set((
            checkout::ended_at.eq(now),
            checkout::ended_how.eq(Stored(how)),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// The open checkouts of a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn open_checkouts(&mut self, credential: Uuid) -> Result<Vec<CheckoutRow>> {
        let query = checkout::table
            .filter(checkout::credential_id.eq(credential))
            .filter(checkout::ended_at.is_null())
            .select(CheckoutRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A checkout with the names that people know.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn checkout_view(&mut self, id: Uuid) -> Result<CheckoutView> {
        Ok(checkout_view::table
            .find(id)
            .select(CheckoutView::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// Somebody's checkouts, newest first; the open ones alone when asked so. For a credential,
    /// everybody's.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn checkouts(
        &mut self,
        person: Option<Uuid>,
        credential: Option<Uuid>,
        open: bool,
        before: Option<(DateTime<Utc>, Uuid)>,
        limit: i64,
    ) -> Result<Vec<CheckoutView>> {
        let mut query = checkout_view::table
            .order((checkout_view::starts_at.desc(), checkout_view::id.desc()))
            .limit(limit)
            .select(CheckoutView::as_select())
            .into_boxed();
        if let Some(person) = person {
            query = query.filter(checkout_view::person_id.eq(person));
        }
        if let Some(credential) = credential {
            query = query.filter(checkout_view::credential_id.eq(credential));
        }
        if open {
            query = query.filter(checkout_view::ended_at.is_null());
        }
        if let Some((time, id)) = before {
            let earlier = checkout_view::starts_at
                .lt(time)
                .or(checkout_view::starts_at
                    .eq(time)
                    .and(checkout_view::id.lt(id)));
            query = query.filter(earlier);
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// The checkouts whose time is over and that nobody has ended.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn overdue_checkouts(
        &mut self,
        now: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<CheckoutRow>> {
        let query = checkout::table
            .filter(checkout::ended_at.is_null())
            .filter(checkout::ends_at.le(now))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(CheckoutRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }
}
