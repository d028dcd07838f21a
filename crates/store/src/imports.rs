//! Many credentials at once, and what an import did, to undo it.

use std::collections::{BTreeSet, HashMap, HashSet};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::{RunQueryDsl, SimpleAsyncConnection as _};
use jexlin_core::access::Level;
use jexlin_core::audit::Event;
use jexlin_core::vault::EventKey;
use uuid::Uuid;

use crate::schema::{
    add_credentials, add_first_versions, add_import_rows, add_imported_folders,
    analyze_after_import, credential, folder, import, import_row, level_on_folder,
    mark_assessments_stale, record_events, removal, remove_imported_devices,
    remove_imported_folders,
};
use crate::stored::Stored;
use crate::tx::Lock;
use crate::{CredentialRow, FolderRow, NewVersion, RemovalRow, Result, Store, Tx};

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

/// One column of many rows, as an array.
fn column<'a, R, V>(rows: &'a [R], of: impl Fn(&'a R) -> V) -> Vec<V> {
    rows.iter().map(of).collect()
}

impl Store {
    /// Has the index of words take in what an import has brought, and the planner look at the
    /// tables that have just grown. The import is complete without it.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn settle_import(&self, organisation: Uuid) -> Result<()> {
        let mut tx = self.begin(organisation).await?;
        diesel::select(analyze_after_import())
            .execute(tx.conn()?)
            .await?;
        tx.commit().await
    }
}

impl Tx {
    /// Adds new credentials that are on no device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken.
    pub async fn add_credentials(&mut self, rows: &[CredentialRow]) -> Result<()> {
        let tags: Vec<_> = rows.iter().map(|row| serde_json::json!(row.tags)).collect();
        let query = diesel::select(add_credentials(
            column(rows, |row| row.id),
            column(rows, |row| row.folder_id),
            column(rows, |row| row.kind.as_str()),
            column(rows, |row| row.name.as_str()),
            column(rows, |row| &row.fields),
            column(rows, |row| row.data_key.as_slice()),
            column(rows, |row| row.created_at),
            column(rows, |row| row.created_by),
            column(rows, |row| &row.extra),
            tags,
        ));
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Adds versions of secret fields of new credentials.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_first_versions(&mut self, all: &[NewVersion<'_>]) -> Result<()> {
        let query = diesel::select(add_first_versions(
            column(all, |new| new.credential),
            column(all, |new| new.field),
            column(all, |new| new.number),
            column(all, |new| Stored(new.state)),
            column(all, |new| new.sealed),
            column(all, |new| new.now),
            column(all, |new| new.by),
            column(all, |new| Stored(new.how)),
            column(all, |new| new.reason),
            column(all, |new| &new.facts),
        ));
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// The assessments of these credentials do not count any more.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn reassess_these(&mut self, credentials: &[Uuid]) -> Result<()> {
        diesel::select(mark_assessments_stale(credentials))
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
        let query = diesel::select(record_events(
            column(&rows, |row| row.id),
            column(&rows, |row| row.at),
            column(&rows, |row| row.action),
            column(&rows, |row| row.actor),
            column(&rows, |row| row.actor_name),
            column(&rows, |row| row.target),
            column(&rows, |row| row.target_type),
            column(&rows, |row| row.target_name),
            column(&rows, |row| row.origin),
            column(&rows, |row| row.outcome),
            column(&rows, |row| &row.detail),
            column(&rows, |row| row.mac.as_slice()),
            key.number(),
        ));
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

    /// Lets credentials be added to folders that come later in this transaction.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn folders_may_follow(&mut self) -> Result<()> {
        self.conn()?
            .batch_execute("SET CONSTRAINTS credential_folder DEFERRED")
            .await?;
        Ok(())
    }

    /// Holds the shape of the tree until the transaction ends; others may add folders meanwhile.
    ///
    /// # Errors
    /// [`StoreError::Busy`].
    pub async fn hold_tree_shared(&mut self) -> Result<()> {
        self.hold_shared(Lock::Tree).await
    }

    /// Adds the folders of an import; each is in another and comes after it. All take what flows
    /// into the folders that they are put in.
    ///
    /// ```text
    /// region 1 is new in Office, area 1 in region 1. Of area 1:
    /// folder → source: area 1 → area 1, area 1 → region 1    placed → place: area 1 → Office
    /// ```
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where one that is there already has been removed.
    pub async fn add_imported_folders(&mut self, import: Uuid, rows: &[FolderRow]) -> Result<()> {
        let Some(first) = rows.first() else {
            return Ok(());
        };
        self.hold_tree_shared().await?;
        let parents: Vec<Uuid> = rows.iter().filter_map(|row| row.parent_id).collect();
        self.refuse_if_any_removed(&parents).await?;
        // Of each new one the new ones above it, and the one below which they were put.
        let mut above: HashMap<Uuid, (Vec<Uuid>, Uuid)> = HashMap::new();
        for (row, parent) in rows.iter().zip(&parents) {
            let (mut chain, held_by) = above
                .get(parent)
                .cloned()
                .unwrap_or_else(|| (vec![], *parent));
            chain.push(row.id);
            above.insert(row.id, (chain, held_by));
        }
        let pairs: Vec<(Uuid, Uuid)> = above
            .iter()
            .flat_map(|(id, (chain, _))| chain.iter().map(|source| (*id, *source)))
            .collect();
        let (folders, sources): (Vec<_>, Vec<_>) = pairs.into_iter().unzip();
        let held = above.iter().map(|(id, (_, held_by))| (*id, *held_by));
        let (placed, places): (Vec<_>, Vec<_>) = held.unzip();
        let query = diesel::select(add_imported_folders(
            import,
            column(rows, |row| row.id),
            parents,
            column(rows, |row| row.name.as_str()),
            first.created_at,
            first.created_by,
            folders,
            sources,
            placed,
            places,
        ));
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Moves those of the folders that an import added to the bin, as part of an act of removing,
    /// that have nothing in them and that somebody is a steward of. How many.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn remove_imported_folders(
        &mut self,
        row: &RemovalRow,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<usize> {
        self.lock_tree().await?;
        let removed: i32 = diesel::select(remove_imported_folders(row.target, person, row.id, now))
            .get_result(self.conn()?)
            .await?;
        Ok(usize::try_from(removed).unwrap_or(0))
    }

    /// Moves those of the devices that an import added to the bin, as part of an act of removing,
    /// that have no accounts, no operator and no other account families, and that somebody is a
    /// steward of. How many.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn remove_imported_devices(
        &mut self,
        row: &RemovalRow,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<usize> {
        self.must_revalidate();
        let removed: i32 = diesel::select(remove_imported_devices(row.target, person, row.id, now))
            .get_result(self.conn()?)
            .await?;
        Ok(usize::try_from(removed).unwrap_or(0))
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
        let query = diesel::select(add_import_rows(
            row.id,
            column(rows, |row| row.credential_id),
            column(rows, |row| row.former.as_ref()),
        ));
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Says that many rows will come in this transaction: the index of words keeps them beside it
    /// and takes them in together, at [`crate::Store::settle_import`].
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn expect_growth(&mut self) -> Result<()> {
        self.conn()?
            .batch_execute("SET LOCAL gin_pending_list_limit = '64MB'")
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
    pub async fn imports(
        &mut self,
        before: Option<(DateTime<Utc>, Uuid)>,
        limit: i64,
    ) -> Result<Vec<ImportRow>> {
        let mut query = import::table
            .order((import::made_at.desc(), import::id.desc()))
            .limit(limit)
            .select(ImportRow::as_select())
            .into_boxed();
        if let Some((time, id)) = before {
            let earlier = import::made_at
                .lt(time)
                .or(import::made_at.eq(time).and(import::id.lt(id)));
            query = query.filter(earlier);
        }
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

    /// Which of an import's credentials that are not in the bin lie where somebody is a steward
    /// now, with how many there are in all.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn imported_in_reach(
        &mut self,
        import: Uuid,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<(Vec<Uuid>, usize)> {
        self.lock_tree().await?;
        let of = import_row::table
            .filter(import_row::import_id.eq(import))
            .select(import_row::credential_id);
        // Held first: nobody moves one of them elsewhere from here on.
        let held: Vec<(Uuid, Uuid)> = credential::table
            .filter(credential::id.eq_any(of))
            .filter(credential::removed_at.is_null())
            .order(credential::id)
            .select((credential::id, credential::folder_id))
            .for_update()
            .load(self.conn()?)
            .await?;
        let places: BTreeSet<Uuid> = held.iter().map(|(_, folder)| *folder).collect();
        let steward: HashSet<Uuid> = folder::table
            .filter(folder::id.eq_any(places))
            .filter(level_on_folder(person, folder::id, now).eq(Level::Steward.number()))
            .select(folder::id)
            .load(self.conn()?)
            .await?
            .into_iter()
            .collect();
        let all = held.len();
        let within = |(id, folder): (Uuid, Uuid)| steward.contains(&folder).then_some(id);
        Ok((held.into_iter().filter_map(within).collect(), all))
    }

    /// Moves those of `among` that an import added to the bin as one act. How many.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way`, `checked_out` or `is_operator`.
    pub async fn remove_imported(&mut self, row: &RemovalRow, among: &[Uuid]) -> Result<usize> {
        let added = import_row::table
            .filter(import_row::import_id.eq(row.target))
            .filter(import_row::former.is_null())
            .select(import_row::credential_id);
        let here: Vec<Uuid> = credential::table
            .filter(credential::id.eq_any(added))
            .filter(credential::id.eq_any(among))
            .filter(credential::removed_at.is_null())
            .select(credential::id)
            .load(self.conn()?)
            .await?;
        self.refuse_if_busy(&here).await?;
        self.refuse_if_operator(&here, &[]).await?;
        let removed = self.put_in_bin(row, &here).await?;
        let credentials = i32::try_from(removed).unwrap_or(i32::MAX);
        diesel::update(removal::table.find(row.id))
            .set(removal::credentials.eq(credentials))
            .execute(self.conn()?)
            .await?;
        Ok(removed)
    }
}
