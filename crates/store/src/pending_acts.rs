//! Sensitive changes that wait for a second person.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::Level;
use jexlin_core::audit::TargetType;
use jexlin_core::gate::{PendingActState, PendingActType};
use jexlin_core::people::Duty;
use jexlin_core::people::{PersonState, PersonType};
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{brings_power, level_on_credential, level_on_folder, pending_act, person};
use crate::stored::Stored;
use crate::{Result, Tx};

/// A pending act.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = pending_act)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PendingActRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub act: Stored<PendingActType>,
    pub summary: String,
    pub target_type: Stored<TargetType>,
    pub target: Uuid,
    pub target_name: String,
    pub body: serde_json::Value,
    pub state: Stored<PendingActState>,
    pub proposed_by: Uuid,
    pub proposed_at: DateTime<Utc>,
    pub expires_at: DateTime<Utc>,
    pub decided_by: Option<Uuid>,
    pub decided_at: Option<DateTime<Utc>>,
    pub comment: String,
}

/// A pending act with the name of who proposed it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PendingActView {
    pub row: PendingActRow,
    pub proposed_by_name: String,
}

/// The people who are active, clients left out.
#[diesel::dsl::auto_type(no_type_alias)]
fn active_people() -> _ {
    let active = Stored(PersonState::Active);
    let person_type = Stored(PersonType::Person);
    person::table
        .filter(person::state.eq::<Stored<PersonState>>(active))
        .filter(person::person_type.eq::<Stored<PersonType>>(person_type))
}

impl Tx {
    /// Keeps an act that waits for a second person.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_pending_act(&mut self, row: &PendingActRow) -> Result<()> {
        diesel::insert_into(pending_act::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A pending act, kept from changes until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn pending_act_locked(&mut self, id: Uuid) -> Result<PendingActRow> {
        Ok(pending_act::table
            .find(id)
            .select(PendingActRow::as_select())
            .for_update()
            .first(self.conn()?)
            .await?)
    }

    /// Notes what became of a pending act; it must be locked. What it would have done is forgotten,
    /// since it can hold the hash of a password.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn settle_pending_act(
        &mut self,
        id: Uuid,
        state: PendingActState,
        by: Option<Uuid>,
        now: DateTime<Utc>,
        comment: &str,
    ) -> Result<()> {
        let query = diesel::update(
            pending_act::table
                .find(id)
                .filter(pending_act::state.eq(Stored(PendingActState::Waiting))),
        )
        .set((
            pending_act::state.eq(Stored(state)),
            pending_act::decided_by.eq(by),
            pending_act::decided_at.eq(now),
            pending_act::comment.eq(comment),
            pending_act::body.eq(serde_json::json!({})),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// The pending acts, newest first; those that wait alone when asked so.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn pending_acts(&mut self, waiting: bool, limit: i64) -> Result<Vec<PendingActView>> {
        let mut query = pending_act::table
            .inner_join(person::table.on(person::id.eq(pending_act::proposed_by)))
            .order((pending_act::proposed_at.desc(), pending_act::id.desc()))
            .limit(limit)
            .select((PendingActRow::as_select(), person::display_name))
            .into_boxed();
        if waiting {
            query = query.filter(pending_act::state.eq(Stored(PendingActState::Waiting)));
        }
        let rows: Vec<(PendingActRow, String)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .map(|(row, proposed_by_name)| PendingActView {
                row,
                proposed_by_name,
            })
            .collect())
    }

    /// The pending acts whose time is over; held until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn overdue_pending_acts(
        &mut self,
        now: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<PendingActRow>> {
        let query = pending_act::table
            .filter(pending_act::state.eq(Stored(PendingActState::Waiting)))
            .filter(pending_act::expires_at.le(now))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(PendingActRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// How many active people other than one hold all of these duties.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn others_with_duties(&mut self, but: Uuid, duties: &[Duty]) -> Result<i64> {
        let query = active_people()
            .filter(person::id.ne(but))
            .filter(person::duties.contains(duties.iter().copied().map(Stored).collect::<Vec<_>>()))
            .count();
        Ok(query.get_result(self.conn()?).await?)
    }

    /// How many active people other than one are stewards of a folder.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn other_stewards_of_folder(
        &mut self,
        but: Uuid,
        folder: Uuid,
        now: DateTime<Utc>,
    ) -> Result<i64> {
        let query = active_people()
            .filter(person::id.ne(but))
            .filter(level_on_folder(person::id, folder, now).eq(Level::Steward.number()))
            .count();
        Ok(query.get_result(self.conn()?).await?)
    }

    /// How many active people other than one are stewards of a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn other_stewards_of_credential(
        &mut self,
        but: Uuid,
        credential: Uuid,
        now: DateTime<Utc>,
    ) -> Result<i64> {
        let query = active_people()
            .filter(person::id.ne(but))
            .filter(level_on_credential(person::id, credential, now).eq(Level::Steward.number()))
            .count();
        Ok(query.get_result(self.conn()?).await?)
    }

    /// Whether a person or a group, itself or through groups that it is in, is a steward of
    /// anything or an approver at any gate where `without` is no steward; everything counts when
    /// nobody is named.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn brings_power(
        &mut self,
        subject: Uuid,
        without: Option<Uuid>,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(diesel::select(brings_power(subject, without, now))
            .get_result(self.conn()?)
            .await?)
    }
}
