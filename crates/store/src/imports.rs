//! Many credentials at once, and what an import did, to undo it.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::audit::Event;
use jexlin_core::vault::EventKey;
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::removal::Count;
use crate::schema::{credential, folder, import, import_row, removal};
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
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = import_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct ImportedRow {
    pub import_id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub former: Option<serde_json::Value>,
}

impl Tx {
    /// Adds new credentials that are on no device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken.
    pub async fn add_credentials(&mut self, rows: &[CredentialRow]) -> Result<()> {
        // Arrays, so that the statement is the same for any number of rows: to read one with a value for
        // each column of each row takes the database longer than to insert them.
        let sql =
            "INSERT INTO credential (id, organisation, folder_id, kind, name, fields, data_key, created_at, created_by, changed_at, changed_by, extra, tags)
             SELECT id, scope(), folder_id, kind, name, fields, data_key, at, by, at, by, extra, ARRAY(SELECT jsonb_array_elements_text(tags))
             FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) AS new(id, folder_id, kind, name, fields, data_key, at, by, extra, tags)";
        let tags: Vec<serde_json::Value> =
            rows.iter().map(|row| serde_json::json!(row.tags)).collect();
        let query = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(
                rows.iter().map(|row| row.id).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Uuid>, _>(
                rows.iter().map(|row| row.folder_id).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(
                rows.iter().map(|row| row.kind.clone()).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(
                rows.iter().map(|row| row.name.clone()).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Jsonb>, _>(
                rows.iter()
                    .map(|row| row.fields.clone())
                    .collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Binary>, _>(
                rows.iter()
                    .map(|row| row.data_key.clone())
                    .collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Timestamptz>, _>(
                rows.iter().map(|row| row.created_at).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Nullable<sql_types::Uuid>>, _>(
                rows.iter().map(|row| row.created_by).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Jsonb>, _>(
                rows.iter().map(|row| row.extra.clone()).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Jsonb>, _>(tags);
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Adds versions of secret fields of new credentials.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_first_versions(&mut self, all: &[NewVersion<'_>]) -> Result<()> {
        let sql = "INSERT INTO secret_version (organisation, credential_id, field, number, state, sealed, made_at, made_by, made_how, why, facts)
             SELECT scope(), credential, field, number, state, sealed, at, by, how, why, facts
             FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) AS new(credential, field, number, state, sealed, at, by, how, why, facts)";
        let text = |of: fn(&NewVersion<'_>) -> String| all.iter().map(of).collect::<Vec<_>>();
        let query = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(
                all.iter().map(|new| new.credential).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|new| new.field.to_owned()))
            .bind::<sql_types::Array<sql_types::Int4>, _>(
                all.iter().map(|new| new.number).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|new| new.state.word().to_owned()))
            .bind::<sql_types::Array<sql_types::Binary>, _>(
                all.iter()
                    .map(|new| new.sealed.to_vec())
                    .collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Timestamptz>, _>(
                all.iter().map(|new| new.now).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Nullable<sql_types::Uuid>>, _>(
                all.iter().map(|new| new.by).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|new| new.how.word().to_owned()))
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|new| new.why.to_owned()))
            .bind::<sql_types::Array<sql_types::Jsonb>, _>(
                all.iter().map(|new| new.facts.clone()).collect::<Vec<_>>(),
            );
        query.execute(self.conn()?).await?;
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
        statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(credentials.to_vec())
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Records many events in this transaction.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn record_all(&mut self, events: &[Event], key: &EventKey) -> Result<()> {
        if events.is_empty() {
            return Ok(());
        }
        let rows = crate::audit::insertions(events, key, self.organisation())?;
        let sql = "INSERT INTO audit_event (id, organisation, at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac, key_number)
             SELECT id, scope(), at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac, $13
             FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
                  AS new(id, at, action, actor, actor_name, target, target_type, target_name, origin, outcome, detail, mac)";
        let text =
            |of: fn(&crate::audit::Inserted<'_>) -> String| rows.iter().map(of).collect::<Vec<_>>();
        let query = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(
                rows.iter().map(|row| row.id).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Timestamptz>, _>(
                rows.iter().map(|row| row.at).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.action.to_owned()))
            .bind::<sql_types::Array<sql_types::Nullable<sql_types::Uuid>>, _>(
                rows.iter().map(|row| row.actor).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.actor_name.to_owned()))
            .bind::<sql_types::Array<sql_types::Nullable<sql_types::Uuid>>, _>(
                rows.iter().map(|row| row.target).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.target_type.to_owned()))
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.target_name.to_owned()))
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.origin.to_owned()))
            .bind::<sql_types::Array<sql_types::Text>, _>(text(|row| row.outcome.to_owned()))
            .bind::<sql_types::Array<sql_types::Jsonb>, _>(
                rows.iter()
                    .map(|row| row.detail.clone())
                    .collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Binary>, _>(
                rows.iter().map(|row| row.mac.clone()).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Integer, _>(key.number());
        query.execute(self.conn()?).await?;
        self.mark_recorded(key.number());
        Ok(())
    }

    /// A folder and all below it that is not removed.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn folders_below(&mut self, top: Uuid) -> Result<Vec<FolderRow>> {
        let ids = self.subtree(top).await?;
        let query = folder::table
            .filter(folder::id.eq_any(ids))
            .filter(folder::removed_at.is_null())
            .select(FolderRow::as_select());
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
        diesel::insert_into(import::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        let sql = "INSERT INTO import_row (import_id, organisation, credential_id, former)
             SELECT $1, scope(), credential, former FROM unnest($2, $3) AS new(credential, former)";
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(
                rows.iter().map(|row| row.credential_id).collect::<Vec<_>>(),
            )
            .bind::<sql_types::Array<sql_types::Nullable<sql_types::Jsonb>>, _>(
                rows.iter()
                    .map(|row| row.former.clone())
                    .collect::<Vec<_>>(),
            );
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Says that many rows will come in this transaction: the index of words keeps them beside it and
    /// takes them in together, at [`Tx::note_growth`].
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn expect_growth(&mut self) -> Result<()> {
        statement("SET LOCAL gin_pending_list_limit = '64MB'")
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Has the index of words take in what has come, and the planner look at the tables that have just
    /// grown.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn note_growth(&mut self) -> Result<()> {
        statement("SELECT note_growth()")
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// An import, held until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn import_locked(&mut self, id: Uuid) -> Result<ImportRow> {
        Ok(import::table
            .find(id)
            .select(ImportRow::as_select())
            .for_update()
            .first(self.conn()?)
            .await?)
    }

    /// The imports of the organisation, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn imports(&mut self, most: i64) -> Result<Vec<ImportRow>> {
        let query = import::table
            .order((import::made_at.desc(), import::id.desc()))
            .limit(most)
            .select(ImportRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// What an import changed of what was there before.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn import_changes(&mut self, id: Uuid) -> Result<Vec<ImportedRow>> {
        let query = import_row::table
            .filter(import_row::import_id.eq(id))
            .filter(import_row::former.is_not_null())
            .select(ImportedRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes that an import was undone.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn import_undone(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(import::table.find(id))
            .set(import::undone_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Which of an import's credentials that are not in the bin lie where somebody is a steward now,
    /// with how many there are in all.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn imported_in_reach(
        &mut self,
        import: Uuid,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<(Vec<Uuid>, usize)> {
        #[derive(QueryableByName)]
        struct Reached {
            #[diesel(sql_type = sql_types::Uuid)]
            id: Uuid,
            #[diesel(sql_type = sql_types::Bool)]
            reached: bool,
        }
        // Held first: nobody moves one of them elsewhere from here on.
        let sql = "WITH held AS MATERIALIZED (
            SELECT c.id, c.folder_id FROM credential c JOIN import_row r ON r.credential_id = c.id
            WHERE r.import_id = $1 AND c.removed_at IS NULL ORDER BY c.id FOR UPDATE OF c
        ), place AS MATERIALIZED (
            SELECT folder_id, level_on_folder($2, folder_id, $3) = $4 AS reached FROM (SELECT DISTINCT folder_id FROM held) AS its
        ) SELECT held.id, coalesce(place.reached, false) AS reached FROM held JOIN place USING (folder_id)";
        self.lock_tree().await?;
        let found: Vec<Reached> = statement(sql)
            .bind::<sql_types::Uuid, _>(import)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::SmallInt, _>(jexlin_core::access::Level::Steward.number())
            .load(self.conn()?)
            .await?;
        let all = found.len();
        Ok((
            found
                .into_iter()
                .filter(|it| it.reached)
                .map(|it| it.id)
                .collect(),
            all,
        ))
    }

    /// Moves those of `among` that an import added to the bin as one act. How many.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way`, `checked_out` or `is_operator`.
    pub async fn remove_imported(&mut self, row: &RemovalRow, among: &[Uuid]) -> Result<usize> {
        let here = "SELECT c.id FROM credential c JOIN import_row r ON r.credential_id = c.id WHERE r.import_id = $1 AND r.former IS NULL AND c.removed_at IS NULL AND c.id = ANY($2)";
        for (sql, why) in [
            (
                format!(
                    "SELECT count(*) AS count FROM job j WHERE j.state IN ('queued', 'running') AND j.credential_id IN ({here})"
                ),
                "job_under_way",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM checkout k WHERE k.ended_at IS NULL AND k.credential_id IN ({here})"
                ),
                "checked_out",
            ),
            (
                format!(
                    "SELECT count(*) AS count FROM binding b JOIN device d ON d.id = b.device_id WHERE b.role = 'operator' AND d.removed_at IS NULL AND b.credential_id IN ({here})"
                ),
                "is_operator",
            ),
        ] {
            let query = statement(sql)
                .bind::<sql_types::Uuid, _>(row.target)
                .bind::<sql_types::Array<sql_types::Uuid>, _>(among.to_vec());
            let found: Count = query.get_result(self.conn()?).await?;
            if found.count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        let sql = format!(
            "UPDATE credential SET removed_at = $3, removal_id = $4, version = version + 1 WHERE id IN ({here})"
        );
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(row.target)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(among.to_vec())
            .bind::<sql_types::Timestamptz, _>(row.removed_at)
            .bind::<sql_types::Uuid, _>(row.id);
        let removed = query.execute(self.conn()?).await?;
        let sql = "UPDATE account a SET stale = true FROM credential c WHERE c.id = a.credential_id AND c.removal_id = $1";
        statement(sql)
            .bind::<sql_types::Uuid, _>(row.id)
            .execute(self.conn()?)
            .await?;
        let credentials = i32::try_from(removed).unwrap_or(i32::MAX);
        diesel::update(removal::table.find(row.id))
            .set(removal::credentials.eq(credentials))
            .execute(self.conn()?)
            .await?;
        Ok(removed)
    }
}
