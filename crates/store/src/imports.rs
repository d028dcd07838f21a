//! Many credentials at once, and what an import did, to take it back.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::audit::Event;
use jexlin_core::vault::Key;
use uuid::Uuid;

use crate::schema::{credential, folder, import, import_row, secret_version};
use crate::sql::statement;
use crate::{CredentialRow, FolderRow, NewVersion, RemovalRow, Result, StoreError, Tx};

/// An import that was made.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = import)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ImportRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub folder_id: Uuid,
    pub made_at: DateTime<Utc>,
    pub made_by: Option<Uuid>,
    pub added: i32,
    pub updated: i32,
    pub skipped: i32,
    pub undone_at: Option<DateTime<Utc>>,
}

/// What an import did to a credential.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = import_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ImportedRow {
    pub import_id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub former: Option<serde_json::Value>,
}

impl Tx {
    /// Adds credentials that are on no device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken.
    pub async fn add_credentials(&mut self, rows: &[CredentialRow]) -> Result<()> {
        diesel::insert_into(credential::table).values(rows).execute(self.conn()?).await?;
        Ok(())
    }

    /// Adds the first versions of new credentials.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_first_versions(&mut self, all: &[NewVersion<'_>]) -> Result<()> {
        let organisation = self.organisation();
        let values: Vec<_> = all
            .iter()
            .map(|new| {
                (
                    secret_version::organisation.eq(organisation),
                    secret_version::credential_id.eq(new.credential),
                    secret_version::field.eq(new.field),
                    secret_version::number.eq(new.number),
                    secret_version::state.eq(new.state),
                    secret_version::sealed.eq(new.sealed),
                    secret_version::made_at.eq(new.now),
                    secret_version::made_by.eq(new.by),
                    secret_version::made_how.eq(new.how),
                    secret_version::why.eq(new.why),
                    secret_version::facts.eq(&new.facts),
                )
            })
            .collect();
        diesel::insert_into(secret_version::table).values(values).execute(self.conn()?).await?;
        Ok(())
    }

    /// The judgements of these credentials do not count any more.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn judge_these_again(&mut self, credentials: &[Uuid]) -> Result<()> {
        let sql = "INSERT INTO judgement (credential_id, organisation, number, score, fingerprint, lacks, leaked, made_at, stale)
             SELECT c.id, c.organisation, 0, 4, uuid_send(c.id), '{}', 0, c.changed_at, true FROM credential c WHERE c.id = ANY ($1)
             ON CONFLICT (credential_id) DO UPDATE SET stale = true";
        statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(credentials.to_vec()).execute(self.conn()?).await?;
        Ok(())
    }

    /// Records many events in this transaction.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn record_all(&mut self, events: &[Event], key: &Key) -> Result<()> {
        if events.is_empty() {
            return Ok(());
        }
        let values = crate::audit::insertions(events, key, self.organisation())?;
        diesel::insert_into(crate::schema::audit_event::table).values(values).execute(self.conn()?).await?;
        self.mark_recorded();
        Ok(())
    }

    /// A folder and all below it that is not removed.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn folders_below(&mut self, top: Uuid) -> Result<Vec<FolderRow>> {
        let ids = self.region_below(top).await?.folders;
        let query = folder::table.filter(folder::id.eq_any(ids)).filter(folder::removed_at.is_null()).select(FolderRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// The credentials directly in these folders.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn credentials_in(&mut self, folders: &[Uuid]) -> Result<Vec<CredentialRow>> {
        let query = credential::table
            .filter(credential::folder_id.eq_any(folders))
            .filter(credential::removed_at.is_null())
            .order((credential::created_at, credential::id))
            .select(CredentialRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes an import and what it did.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_import(&mut self, row: &ImportRow, rows: &[ImportedRow]) -> Result<()> {
        diesel::insert_into(import::table).values(row).execute(self.conn()?).await?;
        for some in rows.chunks(5000) {
            diesel::insert_into(import_row::table).values(some).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// Has the planner look at the tables that have just grown.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn note_growth(&mut self) -> Result<()> {
        statement("SELECT note_growth()").execute(self.conn()?).await?;
        Ok(())
    }

    /// An import, held until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn import_locked(&mut self, id: Uuid) -> Result<ImportRow> {
        Ok(import::table.find(id).select(ImportRow::as_select()).for_update().first(self.conn()?).await?)
    }

    /// The imports of the organisation, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn imports(&mut self, most: i64) -> Result<Vec<ImportRow>> {
        let query = import::table.order((import::made_at.desc(), import::id.desc())).limit(most).select(ImportRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// What an import changed of what was there before.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn import_changes(&mut self, id: Uuid) -> Result<Vec<ImportedRow>> {
        let query = import_row::table.filter(import_row::import_id.eq(id)).filter(import_row::former.is_not_null()).select(ImportedRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes that an import was taken back.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn import_undone(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(import::table.find(id)).set(import::undone_at.eq(now)).execute(self.conn()?).await?;
        Ok(())
    }

    /// Moves what an import added, and is still there, to the bin as one act. How many.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way` or `checked_out`.
    pub async fn remove_imported(&mut self, row: &RemovalRow) -> Result<usize> {
        let here =
            "SELECT c.id FROM credential c JOIN import_row r ON r.credential_id = c.id WHERE r.import_id = $1 AND r.former IS NULL AND c.removed_at IS NULL";
        statement(format!("SELECT c.id FROM credential c WHERE c.id IN ({here}) ORDER BY c.id FOR UPDATE"))
            .bind::<sql_types::Uuid, _>(row.target)
            .execute(self.conn()?)
            .await?;
        #[derive(QueryableByName)]
        struct Count {
            #[diesel(sql_type = sql_types::BigInt)]
            count: i64,
        }
        for (sql, why) in [
            (format!("SELECT count(*) AS count FROM job j WHERE j.state IN ('queued', 'running') AND j.credential_id IN ({here})"), "job_under_way"),
            (format!("SELECT count(*) AS count FROM checkout k WHERE k.ended_at IS NULL AND k.credential_id IN ({here})"), "checked_out"),
            (format!("SELECT count(*) AS count FROM device d WHERE d.removed_at IS NULL AND d.operator_id IN ({here})"), "is_operator"),
        ] {
            let found: Count = statement(sql).bind::<sql_types::Uuid, _>(row.target).get_result(self.conn()?).await?;
            if found.count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        let sql = format!("UPDATE credential SET removed_at = $2, removal_id = $3, version = version + 1 WHERE id IN ({here})");
        let query = statement(sql).bind::<sql_types::Uuid, _>(row.target).bind::<sql_types::Timestamptz, _>(row.removed_at).bind::<sql_types::Uuid, _>(row.id);
        Ok(query.execute(self.conn()?).await?)
    }
}
