//! The index of an organisation, kept from one question to the next and brought up to what is.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::Level;
use jexlin_core::access::index::{AccessIndex, FolderEntry, PersonEntry, SingleEntry};
use jexlin_core::access::preview::{Cell, Narrowings};
use jexlin_core::access::reference::{Credential, Grant, World};
use jexlin_core::people::PersonState;
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{
    access_change_row, access_changed, access_grant, access_log_since, access_news_row,
    credential_index_entry, folder_index_entry, group_member, limited_grant_counts,
    narrowed_count_row, people_group, person, prune_access_log, subtree_of, sum_credential_counts,
};
use crate::stored::Stored;
use crate::{GrantRow, Result, Target, Tx};

/// From this many changes on all is read again.
const MANY: usize = 5000;
/// Of how many organisations index_cache are kept.
const KEPT: usize = 16;
/// How often what changed while it was read is read again.
const ROUNDS: usize = 4;

#[derive(Clone)]
struct Kept {
    index: AccessIndex,
    snapshot: String,
    server: DateTime<Utc>,
}

/// What is kept of each organisation.
#[derive(Clone, Default)]
pub(crate) struct IndexCache(Arc<Mutex<HashMap<Uuid, Kept>>>);

impl IndexCache {
    fn of(&self, organisation: Uuid) -> Option<Kept> {
        self.0
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .get(&organisation)
            .cloned()
    }

    fn keep(&self, organisation: Uuid, kept: Kept) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= KEPT && !all.contains_key(&organisation) {
            all.clear();
        }
        all.insert(organisation, kept);
    }
}

/// What has changed of what access depends on, and up to which snapshot.
struct News {
    row: NewsRow,
    changed: Changed,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = access_news_row)]
struct NewsRow {
    snapshot: String,
    server: DateTime<Utc>,
    complete: bool,
    writing: bool,
    target_types: Vec<String>,
    ids: Vec<Uuid>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = access_change_row)]
struct Changed {
    target_types: Vec<String>,
    ids: Vec<Uuid>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = folder_index_entry)]
struct FolderLine {
    id: Uuid,
    parent_id: Option<Uuid>,
    name: String,
    closed: bool,
    gate: bool,
    credentials: i64,
    own_gates: i64,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = credential_index_entry)]
struct SingleLine {
    id: Uuid,
    folder_id: Uuid,
    kind: String,
    tags: Vec<String>,
    gate: bool,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = narrowed_count_row)]
struct CellLine {
    folder_id: Uuid,
    fits: Vec<i32>,
    credentials: i64,
    own_gates: i64,
}

/// A folder or a credential, with all that access to it depends on.
#[derive(Clone, Debug)]
pub struct Spot {
    /// Which.
    pub id: Uuid,
    /// What it is and where, for a credential.
    pub credential: Option<Credential>,
    /// Its path.
    pub place: String,
    /// Everything around it.
    pub index: AccessIndex,
}

impl Spot {
    /// The part of the plain world that one person's access to it depends on.
    #[must_use]
    pub fn around(&self, person: Uuid) -> World {
        self.index.around(person, self.id, self.credential.as_ref())
    }

    /// Everybody who reaches it, with what they hold.
    #[must_use]
    pub fn reached_by(&self, now: DateTime<Utc>) -> Vec<(Uuid, Level)> {
        self.index
            .reached_by(self.id, self.credential.as_ref(), now)
    }
}

fn count(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

impl Tx {
    /// All that access depends on, as this transaction sees it, its own changes included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn access_index(&mut self) -> Result<AccessIndex> {
        let kept = self.index_cache().of(self.organisation());
        let mut news = self
            .news(kept.as_ref().map(|kept| kept.snapshot.clone()))
            .await?;
        let mut index = match kept {
            Some(kept)
                if news.row.complete
                    && kept.server == news.row.server
                    && news.changed.ids.len() < MANY =>
            {
                self.follow(kept.index, &news.changed).await?
            }
            _ => {
                news.changed.ids.clear();
                let index = self.whole().await?;
                // What changed while it was read.
                let later = self.news(Some(news.row.snapshot)).await?;
                let index = self.follow(index, &later.changed).await?;
                news = later;
                index
            }
        };
        for _ in 0..ROUNDS {
            if news.changed.ids.is_empty() || news.row.writing {
                break;
            }
            news = self.news(Some(news.row.snapshot)).await?;
            index = self.follow(index, &news.changed).await?;
        }
        if !news.row.writing {
            self.index_cache().keep(
                self.organisation(),
                Kept {
                    index: index.clone(),
                    snapshot: news.row.snapshot,
                    server: news.row.server,
                },
            );
        }
        Ok(index)
    }

    /// An index of before with what this transaction has changed: what others have changed
    /// meanwhile is left out, so that the two differ by that alone.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn access_index_after(&mut self, before: &AccessIndex) -> Result<AccessIndex> {
        let query = rows_of(
            access_changed(),
            access_change_row::table,
            Changed::as_select(),
        );
        let changed: Changed = query.get_result(self.conn()?).await?;
        self.follow(before.clone(), &changed).await
    }

    async fn news(&mut self, since: Option<String>) -> Result<News> {
        let query = rows_of(
            access_log_since(since),
            access_news_row::table,
            NewsRow::as_select(),
        );
        let mut row: NewsRow = query.get_result(self.conn()?).await?;
        let changed = Changed {
            target_types: std::mem::take(&mut row.target_types),
            ids: std::mem::take(&mut row.ids),
        };
        Ok(News { row, changed })
    }

    async fn whole(&mut self) -> Result<AccessIndex> {
        let mut index = AccessIndex::default();
        index.put_folders(&[], &self.folder_entries(None).await?);
        index.put_grants(&[], self.plain_grants(None).await?);
        index.put_memberships(&[], &self.memberships(None).await?);
        index.put_groups(&[], self.group_names(None).await?);
        index.put_people(&[], self.person_entries(None).await?);
        index.put_singles(&[], self.single_entries(None).await?);
        Ok(index)
    }

    async fn follow(&mut self, mut index: AccessIndex, changed: &Changed) -> Result<AccessIndex> {
        let mut by_type: BTreeMap<&str, Vec<Uuid>> = BTreeMap::new();
        for (target_type, id) in changed.target_types.iter().zip(&changed.ids) {
            by_type.entry(target_type).or_default().push(*id);
        }
        // Folders first: grants are on them.
        if let Some(ids) = by_type.get("folder") {
            index.put_folders(ids, &self.folder_entries(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("grant") {
            index.put_grants(ids, self.plain_grants(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("member") {
            index.put_memberships(ids, &self.memberships(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("group") {
            index.put_groups(ids, self.group_names(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("person") {
            index.put_people(ids, self.person_entries(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("single") {
            index.put_singles(ids, self.single_entries(Some(ids)).await?);
        }
        Ok(index)
    }

    async fn folder_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<FolderEntry>> {
        let mut query = folder_index_entry::table
            .select(FolderLine::as_select())
            .into_boxed();
        if let Some(ids) = ids {
            query = query.filter(folder_index_entry::id.eq_any(ids));
        }
        let rows: Vec<FolderLine> = query.load(self.conn()?).await?;
        let entry = |row: FolderLine| FolderEntry {
            id: row.id,
            parent: row.parent_id,
            name: row.name,
            closed: row.closed,
            gate: row.gate,
            credentials: count(row.credentials),
            own_gates: count(row.own_gates),
        };
        Ok(rows.into_iter().map(entry).collect())
    }

    async fn plain_grants(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<Grant>> {
        let mut query = access_grant::table
            .select(GrantRow::as_select())
            .into_boxed();
        if let Some(ids) = ids {
            query = query.filter(access_grant::id.eq_any(ids));
        }
        let rows: Vec<GrantRow> = query.load(self.conn()?).await?;
        Ok(rows.iter().filter_map(GrantRow::to_plain).collect())
    }

    async fn memberships(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<(Uuid, Uuid)>> {
        let mut query = group_member::table
            .select((group_member::member, group_member::group_id))
            .into_boxed();
        if let Some(ids) = ids {
            query = query.filter(group_member::member.eq_any(ids));
        }
        Ok(query.load(self.conn()?).await?)
    }

    async fn group_names(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<(Uuid, String)>> {
        let mut query = people_group::table
            .select((people_group::id, people_group::name))
            .into_boxed();
        if let Some(ids) = ids {
            query = query.filter(people_group::id.eq_any(ids));
        }
        Ok(query.load(self.conn()?).await?)
    }

    async fn person_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<PersonEntry>> {
        let mut query = person::table
            .select((person::id, person::display_name, person::state))
            .into_boxed();
        if let Some(ids) = ids {
            query = query.filter(person::id.eq_any(ids));
        }
        let rows: Vec<(Uuid, String, Stored<PersonState>)> = query.load(self.conn()?).await?;
        let entry = |(id, name, Stored(state))| PersonEntry { id, name, state };
        Ok(rows.into_iter().map(entry).collect())
    }

    /// Where these credentials are and what they are, or all that have grants of their own; those
    /// that are removed left out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn single_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<SingleEntry>> {
        let own = access_grant::table
            .filter(access_grant::credential_id.is_not_null())
            .select(access_grant::credential_id.assume_not_null());
        let query = credential_index_entry::table
            .select(SingleLine::as_select())
            .into_boxed();
        let query = match ids {
            Some(ids) => query.filter(credential_index_entry::id.eq_any(ids)),
            None => query.filter(credential_index_entry::id.eq_any(own)),
        };
        let rows: Vec<SingleLine> = query.load(self.conn()?).await?;
        let entry = |row: SingleLine| SingleEntry {
            id: row.id,
            credential: Credential {
                folder: row.folder_id,
                kind: row.kind,
                tags: row.tags,
            },
            gate: row.gate,
        };
        Ok(rows.into_iter().map(entry).collect())
    }

    /// How many credentials narrowings fit, by folder and by which of them; these credentials left
    /// out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn cells(&mut self, narrowings: &Narrowings, without: &[Uuid]) -> Result<Vec<Cell>> {
        let onlys = &narrowings.onlys;
        let kinds: Vec<_> = onlys.iter().map(|only| only.kind.clone()).collect();
        let tags: Vec<_> = onlys.iter().map(|only| only.tag.clone()).collect();
        let query = rows_of(
            limited_grant_counts(kinds, tags, &narrowings.folders, without),
            narrowed_count_row::table,
            CellLine::as_select(),
        );
        let rows: Vec<CellLine> = query.load(self.conn()?).await?;
        let cell = |row: CellLine| Cell {
            folder: row.folder_id,
            fits: row
                .fits
                .iter()
                .filter_map(|nth| usize::try_from(nth - 1).ok())
                .collect(),
            credentials: count(row.credentials),
            own_gates: count(row.own_gates),
        };
        Ok(rows.into_iter().map(cell).collect())
    }

    /// What a question about the access to something is about.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn spot(&mut self, target: Target) -> Result<Spot> {
        let index = self.access_index().await?;
        match target {
            Target::Credential(id) => {
                let row = self.credential(id).await?;
                let place = format!(
                    "{}/{}",
                    index.name(row.folder_id).unwrap_or_default(),
                    row.name
                );
                Ok(Spot {
                    id,
                    credential: Some(Credential {
                        folder: row.folder_id,
                        kind: row.kind,
                        tags: row.tags,
                    }),
                    place,
                    index,
                })
            }
            Target::Folder(id) => {
                let row = self.folder(id).await?;
                Ok(Spot {
                    id,
                    credential: None,
                    place: index.name(row.id).unwrap_or_default(),
                    index,
                })
            }
        }
    }

    /// A folder and all below it, whatever is closed there.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn subtree(&mut self, folder: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(subtree_of(folder))
            .load(self.conn()?)
            .await?)
    }

    /// Makes one note of many about how many credentials are in a folder, and forgets what
    /// everybody has seen of what changed. How many notes of the first kind went.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn sum_credential_counts(&mut self) -> Result<i64> {
        diesel::select(prune_access_log())
            .execute(self.conn()?)
            .await?;
        Ok(diesel::select(sum_credential_counts())
            .get_result(self.conn()?)
            .await?)
    }
}
