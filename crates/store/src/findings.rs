//! What is known of passwords without opening them, and what folders demand of them.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::policy::RuleMode;
use jexlin_core::vault::VersionState;
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{
    credential, judgement, password_rule, password_rule_for, ruled_from_above, secret_version,
    subtree_of,
};
use crate::stored::Stored;
use crate::{Result, Tx};

/// What is known of the current password of a credential.
#[derive(Clone, Debug, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = judgement)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct JudgementRow {
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

/// What a folder demands.
#[derive(Clone, Debug, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = password_rule)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct RuleRow {
    pub folder_id: Uuid,
    pub organisation: Uuid,
    pub mode: Stored<RuleMode>,
    pub policies: Vec<Uuid>,
}

/// A password whose judgement is to be made anew.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ToJudge {
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
    /// Keeps a judgement; the fingerprint stays with the version too, for those to come.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn keep_judgement(&mut self, row: &JudgementRow, field: &str) -> Result<()> {
        diesel::insert_into(judgement::table)
            .values(row)
            .on_conflict(judgement::credential_id)
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

    /// The judgement of a credential's current password.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn judgement(&mut self, credential: Uuid) -> Result<Option<JudgementRow>> {
        Ok(judgement::table
            .find(credential)
            .select(JudgementRow::as_select())
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

    /// The judgement of a credential's password no longer counts.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn judge_again(&mut self, credential: Uuid) -> Result<()> {
        self.judge_these_again(&[credential]).await
    }

    /// The judgements of a folder and all below it, or of all, no longer count.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn judge_all_again(&mut self, folder: Option<Uuid>) -> Result<()> {
        let mut of = credential::table.select(credential::id).into_boxed();
        if let Some(folder) = folder {
            let inside = diesel::select(subtree_of(folder));
            of = of.filter(credential::folder_id.eq_any(inside));
        }
        diesel::update(judgement::table.filter(judgement::credential_id.eq_any(of)))
            .set(judgement::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// There is nothing to judge about a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn forget_judgement(&mut self, credential: Uuid) -> Result<()> {
        diesel::delete(judgement::table.find(credential))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Passwords whose judgement does not count any more, held until the transaction ends and left
    /// out by every other worker meanwhile.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn to_judge(&mut self, field: &str, limit: i64) -> Result<Vec<ToJudge>> {
        let waiting: Vec<Uuid> = judgement::table
            .filter(judgement::stale)
            .limit(limit)
            .select(judgement::credential_id)
            .load(self.conn()?)
            .await?;
        // The credential first, as everybody does who sets a value: whoever sets one at this moment
        // is left alone, and judges it themselves.
        let stale: Vec<Uuid> = credential::table
            .filter(credential::id.eq_any(waiting))
            .order(credential::id)
            .for_no_key_update()
            .skip_locked()
            .select(credential::id)
            .load(self.conn()?)
            .await?;
        let found = self.to_judge_of(&stale, field).await?;
        // Without a current value there is nothing to judge.
        let gone: Vec<Uuid> = stale
            .into_iter()
            .filter(|id| !found.iter().any(|row| row.credential == *id))
            .collect();
        diesel::delete(judgement::table.filter(judgement::credential_id.eq_any(gone)))
            .execute(self.conn()?)
            .await?;
        Ok(found)
    }

    /// The current values of a field of these credentials, sealed, with what a judgement rests on.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn to_judge_of(&mut self, credentials: &[Uuid], field: &str) -> Result<Vec<ToJudge>> {
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
        ): Found| ToJudge {
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

    /// The credentials in a folder and below it for which what counts comes from above it: a folder
    /// with a rule of its own keeps it wherever it goes.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn ruled_from_above(&mut self, folder: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(ruled_from_above(folder))
            .load(self.conn()?)
            .await?)
    }

    /// What counts for the passwords in a folder: its own rule, else that of the nearest above.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn password_rule_for(&mut self, folder: Uuid) -> Result<Option<RuleRow>> {
        let query = rows_of(
            password_rule_for(folder),
            password_rule::table,
            RuleRow::as_select(),
        );
        Ok(query.get_result(self.conn()?).await.optional()?)
    }

    /// Sets what a folder demands.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn set_password_rule(&mut self, row: &RuleRow) -> Result<()> {
        diesel::insert_into(password_rule::table)
            .values(row)
            .on_conflict(password_rule::folder_id)
            .do_update()
            .set(row)
            .execute(self.conn()?)
            .await?;
        self.judge_all_again(Some(row.folder_id)).await
    }

    /// Takes away what a folder demands of its own.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn remove_password_rule(&mut self, folder: Uuid) -> Result<()> {
        diesel::delete(password_rule::table.find(folder))
            .execute(self.conn()?)
            .await?;
        self.judge_all_again(Some(folder)).await
    }

    /// How many folders and upkeep plans name a policy.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn policy_in_use(&mut self, policy: Uuid) -> Result<i64> {
        use crate::schema::upkeep_plan;
        let plans: i64 = upkeep_plan::table
            .filter(upkeep_plan::policy_id.eq(policy))
            .count()
            .get_result(self.conn()?)
            .await?;
        let rules: i64 = password_rule::table
            .filter(password_rule::policies.contains(vec![policy]))
            .count()
            .get_result(self.conn()?)
            .await?;
        Ok(plans + rules)
    }
}
