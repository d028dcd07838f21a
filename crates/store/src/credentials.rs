//! Credentials and their secret versions.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::{JobState, Role};
use jexlin_core::vault::{ValueOrigin, VersionState};
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{account, binding, credential, device, secret_version};
use crate::stored::Stored;
use crate::{Conflict, Result, StoreError, Tx, Withheld};

/// A credential without its secrets.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = credential)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Uuid,
    pub kind: String,
    pub name: String,
    pub fields: serde_json::Value,
    /// Follows the account; the database alone writes it.
    #[diesel(skip_insertion)]
    pub device_id: Option<Uuid>,
    pub data_key: Vec<u8>,
    pub created_at: DateTime<Utc>,
    pub created_by: Option<Uuid>,
    pub changed_at: DateTime<Utc>,
    pub changed_by: Option<Uuid>,
    pub removed_at: Option<DateTime<Utc>>,
    pub revision: i32,
    pub removal_id: Option<Uuid>,
    pub extra: serde_json::Value,
    pub tags: Vec<String>,
}

/// One version of a secret field, without its value.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = secret_version)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct VersionRow {
    pub field: String,
    pub number: i32,
    pub state: Stored<VersionState>,
    pub made_at: DateTime<Utc>,
    pub made_by: Option<Uuid>,
    pub made_how: Stored<ValueOrigin>,
    pub reason: String,
    pub facts: serde_json::Value,
}

/// A new version of a secret field.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct NewVersion<'a> {
    pub credential: Uuid,
    pub field: &'a str,
    pub number: i32,
    pub state: VersionState,
    pub sealed: &'a [u8],
    pub now: DateTime<Utc>,
    pub by: Option<Uuid>,
    pub how: ValueOrigin,
    pub reason: &'a str,
    pub facts: serde_json::Value,
}

/// One version of a secret field, sealed, with the wrapped key that opens it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SealedVersion {
    pub credential: Uuid,
    pub field: String,
    pub number: i32,
    pub sealed: Vec<u8>,
    pub data_key: Vec<u8>,
    pub facts: serde_json::Value,
}

/// What may be changed about a credential in one go.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialChange<'a> {
    pub id: Uuid,
    pub revision: i32,
    pub name: &'a str,
    pub folder_id: Uuid,
    pub fields: &'a serde_json::Value,
    pub extra: &'a serde_json::Value,
    pub tags: &'a [String],
    pub now: DateTime<Utc>,
    pub by: Option<Uuid>,
}

impl Tx {
    /// Adds a credential.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_credential(&mut self, row: &CredentialRow) -> Result<()> {
        diesel::insert_into(credential::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A credential that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table
            .find(id)
            .filter(credential::removed_at.is_null())
            .select(CredentialRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// A credential, locked until the transaction ends. Nobody else can change it, and no new job,
    /// checkout or grant can refer to it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential_locked(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table
            .find(id)
            .filter(credential::removed_at.is_null())
            .select(CredentialRow::as_select())
            .for_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// A credential, locked until the transaction ends so that its value can be set. Nobody else can
    /// change it, but jobs may be queued for it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential_held(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table
            .find(id)
            .filter(credential::removed_at.is_null())
            .select(CredentialRow::as_select())
            .for_no_key_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// Writes a credential back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn edit_credential(&mut self, change: &CredentialChange<'_>) -> Result<()> {
        self.must_revalidate();
        let query = diesel::update(
            credential::table
                .find(change.id)
                .filter(credential::revision.eq(change.revision)),
        )
        .set((
            credential::name.eq(change.name),
            credential::folder_id.eq(change.folder_id),
            credential::fields.eq(change.fields),
            credential::extra.eq(change.extra),
            credential::tags.eq(change.tags),
            credential::changed_at.eq(change.now),
            credential::changed_by.eq(change.by),
            credential::revision.eq(change.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.plan_again_for(change.id).await
    }

    /// Notes that a credential has changed, if nobody else has changed it in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn touch_credential(
        &mut self,
        id: Uuid,
        revision: i32,
        now: DateTime<Utc>,
        by: Uuid,
    ) -> Result<()> {
        let query = diesel::update(
            credential::table
                .find(id)
                .filter(credential::revision.eq(revision)),
        )
        .set((
            credential::changed_at.eq(now),
            credential::changed_by.eq(by),
            credential::revision.eq(revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Gives a new copy the extra fields and tags of what it was copied from.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn label_copy(
        &mut self,
        id: Uuid,
        extra: &serde_json::Value,
        tags: &[String],
    ) -> Result<()> {
        diesel::update(credential::table.find(id))
            .set((credential::extra.eq(extra), credential::tags.eq(tags)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Removes a credential; its versions stay. Refused while a job or a checkout is under way.
    ///
    /// # Errors
    /// [`StoreError::Stale`]; [`StoreError::Conflict`] with `job_under_way`, `checked_out` or
    /// `is_operator`.
    pub async fn remove_credential(
        &mut self,
        id: Uuid,
        revision: i32,
        removal: Uuid,
        now: DateTime<Utc>,
    ) -> Result<()> {
        use crate::schema::{checkout, job};
        self.credential_locked(id).await?;
        let active = [JobState::Queued, JobState::Running].map(Stored);
        let jobs: i64 = job::table
            .filter(job::credential_id.eq(id))
            .filter(job::state.eq_any(active))
            .count()
            .get_result(self.conn()?)
            .await?;
        let held: i64 = checkout::table
            .filter(checkout::credential_id.eq(id))
            .filter(checkout::ended_at.is_null())
            .count()
            .get_result(self.conn()?)
            .await?;
        let operates: i64 = binding::table
            .inner_join(device::table.on(device::id.eq(binding::device_id)))
            .filter(
                binding::credential_id
                    .eq(id)
                    .and(binding::role.ne(Stored(Role::Account)))
                    .and(device::removed_at.is_null()),
            )
            .count()
            .get_result(self.conn()?)
            .await?;
        let owed: i64 = account::table
            .filter(account::credential_id.eq(id))
            .filter(account::rotation_owed_at.is_not_null())
            .count()
            .get_result(self.conn()?)
            .await?;
        for (count, conflict) in [
            (jobs, Conflict::JobUnderWay),
            (held, Conflict::CheckedOut),
            (operates, Conflict::IsOperator),
            (owed, Conflict::RotationOwed),
        ] {
            if count > 0 {
                return Err(StoreError::Conflict(conflict));
            }
        }
        let query = diesel::update(
            credential::table
                .find(id)
                .filter(credential::revision.eq(revision)),
        )
        .set((
            credential::removed_at.eq(now),
            credential::removal_id.eq(removal),
            credential::revision.eq(revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.plan_again_for(id).await
    }

    /// Makes the current version of a secret field a previous one, so that the field has none any
    /// more. Whether there was one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn end_current_version(&mut self, credential: Uuid, field: &str) -> Result<bool> {
        let ended = diesel::update(
            secret_version::table
                .filter(secret_version::credential_id.eq(credential))
                .filter(secret_version::field.eq(field))
                .filter(secret_version::state.eq(Stored(VersionState::Current))),
        )
        .set(secret_version::state.eq(Stored(VersionState::Previous)))
        .execute(self.conn()?)
        .await?;
        Ok(ended > 0)
    }

    /// Adds a version of a secret field. A former current one becomes previous when the new one is
    /// current.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when there is a candidate already.
    pub async fn add_version(&mut self, new: &NewVersion<'_>) -> Result<()> {
        let organisation = self.organisation();
        if new.state == VersionState::Current {
            self.end_current_version(new.credential, new.field).await?;
        }
        diesel::insert_into(secret_version::table)
            .values((
                secret_version::organisation.eq(organisation),
                secret_version::credential_id.eq(new.credential),
                secret_version::field.eq(new.field),
                secret_version::number.eq(new.number),
                secret_version::state.eq(Stored(new.state)),
                secret_version::sealed.eq(new.sealed),
                secret_version::made_at.eq(new.now),
                secret_version::made_by.eq(new.by),
                secret_version::made_how.eq(Stored(new.how)),
                secret_version::reason.eq(new.reason),
                secret_version::facts.eq(&new.facts),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A sealed version by its number, for putting it back.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn sealed_version(
        &mut self,
        credential: Uuid,
        field: &str,
        number: i32,
    ) -> Result<(Vec<u8>, serde_json::Value)> {
        let query = secret_version::table
            .find((credential, field.to_owned(), number))
            .select((secret_version::sealed, secret_version::facts));
        Ok(query.first(self.conn()?).await?)
    }

    /// The number at which a seed that counts goes on, which is taken with this.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn next_count(&mut self, credential: Uuid, number: i32, from: i64) -> Result<i64> {
        use crate::schema::one_time_counter as counter;
        let organisation = self.organisation();
        let query = diesel::insert_into(counter::table)
            .values((
                counter::organisation.eq(organisation),
                counter::credential_id.eq(credential),
                counter::number.eq(number),
                counter::counter.eq(from),
            ))
            .on_conflict((counter::credential_id, counter::number))
            .do_update()
            .set(counter::counter.eq(counter::counter + 1))
            .returning(counter::counter);
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The number that the next version of a field gets.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn next_number(&mut self, credential: Uuid, field: &str) -> Result<i32> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .select(diesel::dsl::max(secret_version::number));
        let last: Option<i32> = query.first(self.conn()?).await?;
        Ok(last.unwrap_or(0) + 1)
    }

    /// A stored version becomes current, the current one previous.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is no such version.
    pub async fn promote_version(
        &mut self,
        credential: Uuid,
        field: &str,
        number: i32,
    ) -> Result<()> {
        let current = secret_version::table.filter(
            secret_version::credential_id
                .eq(credential)
                .and(secret_version::field.eq(field.to_owned()))
                .and(secret_version::state.eq(Stored(VersionState::Current))),
        );
        diesel::update(current)
            .set(secret_version::state.eq(Stored(VersionState::Previous)))
            .execute(self.conn()?)
            .await?;
        let wanted = secret_version::table.find((credential, field.to_owned(), number));
        let count = diesel::update(wanted)
            .set(secret_version::state.eq(Stored(VersionState::Current)))
            .execute(self.conn()?)
            .await?;
        if count == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// The candidate is not on the device: it becomes discarded.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn discard_candidate(&mut self, credential: Uuid, field: &str) -> Result<()> {
        let of = secret_version::table.filter(
            secret_version::credential_id
                .eq(credential)
                .and(secret_version::field.eq(field))
                .and(secret_version::state.eq(Stored(VersionState::Candidate))),
        );
        diesel::update(of)
            .set(secret_version::state.eq(Stored(VersionState::Discarded)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Marks a version as sent to a device, before it is sent; or takes the mark off.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn mark_unanswered(
        &mut self,
        credential: Uuid,
        field: &str,
        number: i32,
        since: Option<DateTime<Utc>>,
    ) -> Result<()> {
        let wanted = secret_version::table.find((credential, field.to_owned(), number));
        diesel::update(wanted)
            .set(secret_version::unanswered_at.eq(since))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The versions of a field that were sent to a device without an answer that was acted on.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn unanswered_versions(
        &mut self,
        credential: Uuid,
        field: &str,
    ) -> Result<Vec<(i32, DateTime<Utc>)>> {
        let query = secret_version::table
            .filter(
                secret_version::credential_id
                    .eq(credential)
                    .and(secret_version::field.eq(field))
                    .and(secret_version::state.ne(Stored(VersionState::Current))),
            )
            .filter(secret_version::unanswered_at.is_not_null())
            .select((
                secret_version::number,
                secret_version::unanswered_at.assume_not_null(),
            ));
        Ok(query.load(self.conn()?).await?)
    }

    /// The candidate of a field: its number, and since when it was sent without an answer.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn candidate(
        &mut self,
        credential: Uuid,
        field: &str,
    ) -> Result<Option<(i32, Option<DateTime<Utc>>)>> {
        let query = secret_version::table
            .filter(
                secret_version::credential_id
                    .eq(credential)
                    .and(secret_version::field.eq(field))
                    .and(secret_version::state.eq(Stored(VersionState::Candidate))),
            )
            .select((secret_version::number, secret_version::unanswered_at));
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The versions of a credential's secret fields, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn versions(&mut self, credential: Uuid) -> Result<Vec<VersionRow>> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .order((secret_version::field, secret_version::number.desc()))
            .select(VersionRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A sealed version by its number, or the current one; withheld until this transaction and its
    /// audit event are durable.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn sealed_for_job(
        &mut self,
        credential: Uuid,
        field: &str,
        number: Option<i32>,
    ) -> Result<Withheld<SealedVersion>> {
        let mut query = secret_version::table
            .inner_join(credential::table.on(credential::id.eq(secret_version::credential_id)))
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .select((
                secret_version::number,
                secret_version::sealed,
                credential::data_key,
                secret_version::facts,
            ))
            .into_boxed();
        query = match number {
            Some(number) => query.filter(secret_version::number.eq(number)),
            None => query.filter(secret_version::state.eq(Stored(VersionState::Current))),
        };
        let (number, sealed, data_key, facts): (i32, Vec<u8>, Vec<u8>, serde_json::Value) =
            query.first(self.conn()?).await?;
        Ok(self.withhold(SealedVersion {
            credential,
            field: field.to_owned(),
            number,
            sealed,
            data_key,
            facts,
        }))
    }

    /// The current value of a secret field for a job, if the credential has one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn sealed_for_job_if_any(
        &mut self,
        credential: Uuid,
        field: &str,
    ) -> Result<Option<Withheld<SealedVersion>>> {
        match self.sealed_for_job(credential, field, None).await {
            Ok(sealed) => Ok(Some(sealed)),
            Err(StoreError::NotFound) => Ok(None),
            Err(other) => Err(other),
        }
    }

    /// Puts credentials into a folder, for a look at what that would change.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken there.
    pub async fn place_credentials(&mut self, ids: &[Uuid], folder: Uuid) -> Result<()> {
        self.must_revalidate();
        diesel::update(credential::table.filter(credential::id.eq_any(ids)))
            .set(credential::folder_id.eq(folder))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The current values of credentials, withheld until the event of the look is durable.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn current_values(&mut self, ids: &[Uuid]) -> Result<Withheld<Vec<SealedVersion>>> {
        let query = secret_version::table
            .inner_join(credential::table.on(credential::id.eq(secret_version::credential_id)))
            .filter(secret_version::credential_id.eq_any(ids))
            .filter(secret_version::state.eq(Stored(VersionState::Current)))
            .select((
                secret_version::credential_id,
                secret_version::field,
                secret_version::number,
                secret_version::sealed,
                credential::data_key,
                secret_version::facts,
            ));
        type Found = (Uuid, String, i32, Vec<u8>, Vec<u8>, serde_json::Value);
        let rows: Vec<Found> = query.load(self.conn()?).await?;
        let shown = |(credential, field, number, sealed, data_key, facts): Found| SealedVersion {
            credential,
            field,
            number,
            sealed,
            data_key,
            facts,
        };
        Ok(self.withhold(rows.into_iter().map(shown).collect()))
    }

    /// Whether a candidate is stored.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn has_candidate(&mut self, credential: Uuid) -> Result<bool> {
        Ok(self
            .versions(credential)
            .await?
            .iter()
            .any(|version| version.state == VersionState::Candidate))
    }
}
