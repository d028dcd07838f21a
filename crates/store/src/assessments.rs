//! What is known of passwords without opening them, and what folders demand of them.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::vault::VersionState;
use uuid::Uuid;

use crate::schema::{assessment, credential, secret_version, subtree_of};
use crate::stored::Stored;
use crate::{Result, Tx};

/// What is known of the current password of a credential.
#[derive(Clone, Debug, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = assessment)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AssessmentRow {
    pub credential_id: Uuid,
    pub organisation: Uuid,
    pub number: i32,
    pub score: i16,
    pub fingerprint: Vec<u8>,
    pub lacks: Vec<String>,
    pub leaked: i64,
    pub made_at: DateTime<Utc>,
    pub stale: bool,
}

/// A password that must be assessed again.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ToAssess {
    pub credential: Uuid,
    pub folder: Uuid,
    pub kind: String,
    pub name: String,
    pub fields: serde_json::Value,
    pub extra: serde_json::Value,
    pub data_key: Vec<u8>,
    pub number: i32,
    pub sealed: Vec<u8>,
    pub made_at: DateTime<Utc>,
}

impl Tx {
    /// Keeps an assessment; the fingerprint stays with the version too, for those to come.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn keep_assessment(&mut self, row: &AssessmentRow, field: &str) -> Result<()> {
        diesel::insert_into(assessment::table)
            .values(row)
            .on_conflict(assessment::credential_id)
            .do_update()
            .set(row)
            .execute(self.conn()?)
            .await?;
        diesel::update(secret_version::table.find((
            row.credential_id,
            field.to_owned(),
            row.number,
        )))
        .set(secret_version::fingerprint.eq(&row.fingerprint))
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// The assessment of a credential's current password.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn assessment(&mut self, credential: Uuid) -> Result<Option<AssessmentRow>> {
        Ok(assessment::table
            .find(credential)
            .select(AssessmentRow::as_select())
            .first(self.conn()?)
            .await
            .optional()?)
    }

    /// So many values ago a field had this fingerprint: 1 is the newest of all. None when it never
    /// had.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn used_ago(
        &mut self,
        credential: Uuid,
        field: &str,
        fingerprint: &[u8],
        before: i32,
    ) -> Result<Option<u16>> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .filter(
                secret_version::state
                    .eq_any([VersionState::Current, VersionState::Previous].map(Stored)),
            )
            .filter(secret_version::number.lt(before))
            .order(secret_version::number.desc())
            .limit(100)
            .select(secret_version::fingerprint);
        let all: Vec<Option<Vec<u8>>> = query.load(self.conn()?).await?;
        Ok(all
            .iter()
            .position(|each| each.as_deref() == Some(fingerprint))
            .and_then(|index| u16::try_from(index + 1).ok()))
    }

    /// The assessment of a credential's password no longer counts.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn reassess(&mut self, credential: Uuid) -> Result<()> {
        self.reassess_these(&[credential]).await
    }

    /// The assessments of a folder and all below it, or of all, no longer count. The credentials are
    /// held first and in the order of their identifiers, as everybody does who assesses one or sets
    /// a value, so that nobody waits for each other.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn reassess_all(&mut self, folder: Option<Uuid>) -> Result<()> {
        let mut of = assessment::table
            .inner_join(credential::table.on(credential::id.eq(assessment::credential_id)))
            .select(credential::id)
            .into_boxed();
        if let Some(folder) = folder {
            let inside = diesel::select(subtree_of(folder));
            of = of.filter(credential::folder_id.eq_any(inside));
        }
        let assessed: Vec<Uuid> = of.load(self.conn()?).await?;
        let held: Vec<Uuid> = credential::table
            .filter(credential::id.eq_any(assessed))
            .order(credential::id)
            .select(credential::id)
            .for_no_key_update()
            .load(self.conn()?)
            .await?;
        diesel::update(assessment::table.filter(assessment::credential_id.eq_any(held)))
            .set(assessment::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// There is nothing to assess about a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn forget_assessment(&mut self, credential: Uuid) -> Result<()> {
        diesel::delete(assessment::table.find(credential))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Passwords whose assessment does not count any more, held until the transaction ends and left
    /// out by every other worker meanwhile.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn to_assess(&mut self, field: &str, limit: i64) -> Result<Vec<ToAssess>> {
        let waiting: Vec<Uuid> = assessment::table
            .filter(assessment::stale)
            .limit(limit)
            .select(assessment::credential_id)
            .load(self.conn()?)
            .await?;
        // The credential first, as everybody does who sets a value: whoever sets one at this moment
        // is left alone, and assesses it themselves.
        let stale: Vec<Uuid> = credential::table
            .filter(credential::id.eq_any(waiting))
            .order(credential::id)
            .for_no_key_update()
            .skip_locked()
            .select(credential::id)
            .load(self.conn()?)
            .await?;
        let found = self.to_assess_of(&stale, field).await?;
        // Without a current value there is nothing to assess.
        let gone: Vec<Uuid> = stale
            .into_iter()
            .filter(|id| !found.iter().any(|row| row.credential == *id))
            .collect();
        diesel::delete(assessment::table.filter(assessment::credential_id.eq_any(gone)))
            .execute(self.conn()?)
            .await?;
        Ok(found)
    }

    /// The current values of a field of these credentials, sealed, with what an assessment rests on.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn to_assess_of(
        &mut self,
        credentials: &[Uuid],
        field: &str,
    ) -> Result<Vec<ToAssess>> {
        type Found = (
            Uuid,
            Uuid,
            String,
            String,
            serde_json::Value,
            serde_json::Value,
            Vec<u8>,
            i32,
            Vec<u8>,
            DateTime<Utc>,
        );
        let found: Vec<Found> = credential::table
            .inner_join(secret_version::table.on(secret_version::credential_id.eq(credential::id)))
            .filter(credential::id.eq_any(credentials))
            .filter(credential::purged_at.is_null())
            .filter(secret_version::field.eq(field))
            .filter(secret_version::state.eq(Stored(VersionState::Current)))
            .select((
                credential::id,
                credential::folder_id,
                credential::kind,
                credential::name,
                credential::fields,
                credential::extra,
                credential::data_key,
                secret_version::number,
                secret_version::sealed,
                secret_version::made_at,
            ))
            .load(self.conn()?)
            .await?;
        let row = |(
            credential,
            folder,
            kind,
            name,
            fields,
            extra,
            data_key,
            number,
            sealed,
            made_at,
        ): Found| ToAssess {
            credential,
            folder,
            kind,
            name,
            fields,
            extra,
            data_key,
            number,
            sealed,
            made_at,
        };
        Ok(found.into_iter().map(row).collect())
    }
}
