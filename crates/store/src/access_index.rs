//! The atlas of an organisation, kept from one question to the next and brought up to what is.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, SmallInt, Text, Timestamptz, Uuid as Id,
};
use diesel_async::RunQueryDsl;
use jexlin_core::access::Level;
use jexlin_core::access::index::{AccessIndex, FolderEntry, PersonEntry, SingleEntry};
use jexlin_core::access::preview::{Cell, Narrowings};
use jexlin_core::access::reference::{Credential, Grant, Only, World};
use jexlin_core::people::PersonState;
use uuid::Uuid;

use crate::sql::{Sql, statement};
use crate::stored::Stored;
use crate::{Result, Target, Tx};

/// From this many changes on all is read again.
const MANY: usize = 5000;
/// Of how many organisations atlases are kept.
const KEPT: usize = 16;
/// How often what changed while it was read is read once more.
const ROUNDS: usize = 4;

#[derive(Clone)]
struct Kept {
    atlas: AccessIndex,
    snapshot: String,
    server: DateTime<Utc>,
}

/// What is kept of each organisation.
#[derive(Clone, Default)]
pub(crate) struct Atlases(Arc<Mutex<HashMap<Uuid, Kept>>>);

impl Atlases {
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

#[derive(QueryableByName)]
struct News {
    #[diesel(sql_type = Text)]
    snapshot: String,
    #[diesel(sql_type = Timestamptz)]
    server: DateTime<Utc>,
    #[diesel(sql_type = Bool)]
    complete: bool,
    #[diesel(sql_type = Bool)]
    writing: bool,
    #[diesel(embed)]
    changed: Changed,
}

#[derive(QueryableByName)]
struct Changed {
    #[diesel(sql_type = Array<Text>)]
    target_types: Vec<String>,
    #[diesel(sql_type = Array<Id>)]
    ids: Vec<Uuid>,
}

#[derive(QueryableByName)]
struct FolderLine {
    #[diesel(sql_type = Id)]
    id: Uuid,
    #[diesel(sql_type = Nullable<Id>)]
    parent_id: Option<Uuid>,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Bool)]
    closed: bool,
    #[diesel(sql_type = Bool)]
    gate: bool,
    #[diesel(sql_type = BigInt)]
    credentials: i64,
    #[diesel(sql_type = BigInt)]
    own_gates: i64,
}

#[derive(QueryableByName)]
struct GrantLine {
    #[diesel(sql_type = Id)]
    id: Uuid,
    #[diesel(sql_type = Id)]
    subject: Uuid,
    #[diesel(sql_type = Id)]
    target: Uuid,
    #[diesel(sql_type = SmallInt)]
    held: i16,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ends_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Text>)]
    only_kind: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    only_tag: Option<String>,
}

#[derive(QueryableByName)]
struct MemberLine {
    #[diesel(sql_type = Id)]
    member: Uuid,
    #[diesel(sql_type = Id)]
    group_id: Uuid,
}

#[derive(QueryableByName)]
struct Named {
    #[diesel(sql_type = Id)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    state: Stored<PersonState>,
}

#[derive(QueryableByName)]
struct SingleLine {
    #[diesel(sql_type = Id)]
    id: Uuid,
    #[diesel(sql_type = Id)]
    folder_id: Uuid,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Array<Text>)]
    tags: Vec<String>,
    #[diesel(sql_type = Bool)]
    gate: bool,
}

#[derive(QueryableByName)]
struct CellLine {
    #[diesel(sql_type = Id)]
    folder_id: Uuid,
    #[diesel(sql_type = Array<Integer>)]
    fits: Vec<i32>,
    #[diesel(sql_type = BigInt)]
    credentials: i64,
    #[diesel(sql_type = BigInt)]
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
    pub atlas: AccessIndex,
}

impl Spot {
    /// The part of the plain world that one person's access to it depends on.
    #[must_use]
    pub fn around(&self, person: Uuid) -> World {
        self.atlas.around(person, self.id, self.credential.as_ref())
    }

    /// Everybody who reaches it, with what they hold.
    #[must_use]
    pub fn reached_by(&self, now: DateTime<Utc>) -> Vec<(Uuid, Level)> {
        self.atlas
            .reached_by(self.id, self.credential.as_ref(), now)
    }
}

fn count(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

/// A statement about all rows, or about those in a list: `{some}` stands for the condition.
fn some(text: &str, column: &str, ids: Option<&[Uuid]>) -> Sql {
    match ids {
        None => statement(text.replace("{some}", "true")),
        Some(ids) => statement(text.replace("{some}", &format!("{column} = ANY ($1)")))
            .bind::<Array<Id>, _>(ids.to_vec()),
    }
}

impl Tx {
    /// All that access depends on, as this transaction sees it, its own changes included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn atlas(&mut self) -> Result<AccessIndex> {
        let kept = self.atlases().of(self.organisation());
        let mut news = self
            .news(kept.as_ref().map(|kept| kept.snapshot.clone()))
            .await?;
        let mut atlas = match kept {
            Some(kept)
                if news.complete && kept.server == news.server && news.changed.ids.len() < MANY =>
            {
                self.follow(kept.atlas, &news.changed).await?
            }
            _ => {
                news.changed.ids.clear();
                let atlas = self.whole().await?;
                // What changed while it was read.
                let later = self.news(Some(news.snapshot)).await?;
                let atlas = self.follow(atlas, &later.changed).await?;
                news = later;
                atlas
            }
        };
        for _ in 0..ROUNDS {
            if news.changed.ids.is_empty() || news.writing {
                break;
            }
            news = self.news(Some(news.snapshot)).await?;
            atlas = self.follow(atlas, &news.changed).await?;
        }
        if !news.writing {
            self.atlases().keep(
                self.organisation(),
                Kept {
                    atlas: atlas.clone(),
                    snapshot: news.snapshot,
                    server: news.server,
                },
            );
        }
        Ok(atlas)
    }

    /// An atlas of before with what this transaction has changed: what others have changed meanwhile
    /// is left out, so that the two differ by that alone.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn atlas_after(&mut self, before: &AccessIndex) -> Result<AccessIndex> {
        let changed: Changed = statement("SELECT target_types, ids FROM access_changed()")
            .get_result(self.conn()?)
            .await?;
        self.follow(before.clone(), &changed).await
    }

    async fn news(&mut self, since: Option<String>) -> Result<News> {
        let sql =
            "SELECT snapshot, server, complete, writing, target_types, ids FROM access_news($1)";
        Ok(statement(sql)
            .bind::<Nullable<Text>, _>(since)
            .get_result(self.conn()?)
            .await?)
    }

    async fn whole(&mut self) -> Result<AccessIndex> {
        let mut atlas = AccessIndex::default();
        atlas.put_folders(&[], &self.folder_entries(None).await?);
        atlas.put_grants(&[], self.plain_grants(None).await?);
        atlas.put_memberships(&[], &self.memberships(None).await?);
        atlas.put_groups(&[], self.group_names(None).await?);
        atlas.put_people(&[], self.person_entries(None).await?);
        atlas.put_singles(&[], self.single_entries(None).await?);
        Ok(atlas)
    }

    async fn follow(&mut self, mut atlas: AccessIndex, changed: &Changed) -> Result<AccessIndex> {
        let mut by_type: BTreeMap<&str, Vec<Uuid>> = BTreeMap::new();
        for (target_type, id) in changed.target_types.iter().zip(&changed.ids) {
            by_type.entry(target_type).or_default().push(*id);
        }
        // Folders first: grants stand on them.
        if let Some(ids) = by_type.get("folder") {
            atlas.put_folders(ids, &self.folder_entries(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("grant") {
            atlas.put_grants(ids, self.plain_grants(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("member") {
            atlas.put_memberships(ids, &self.memberships(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("group") {
            atlas.put_groups(ids, self.group_names(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("person") {
            atlas.put_people(ids, self.person_entries(Some(ids)).await?);
        }
        if let Some(ids) = by_type.get("single") {
            atlas.put_singles(ids, self.single_entries(Some(ids)).await?);
        }
        Ok(atlas)
    }

    async fn folder_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<FolderEntry>> {
        let sql = "SELECT f.id, f.parent_id, f.name, f.closed, EXISTS (SELECT FROM gate g WHERE g.folder_id = f.id AND g.credential_id IS NULL) AS gate,
                coalesce(n.credentials, 0)::bigint AS credentials, coalesce(o.own_gates, 0)::bigint AS own_gates
             FROM folder f
             LEFT JOIN (SELECT n.folder_id, sum(n.credentials) AS credentials FROM folder_count n WHERE {count} GROUP BY 1) n ON n.folder_id = f.id
             LEFT JOIN (SELECT c.folder_id, count(*) AS own_gates FROM gate g JOIN credential c ON c.id = g.credential_id WHERE c.removed_at IS NULL GROUP BY 1) o
                ON o.folder_id = f.id
             WHERE {some}";
        let sql = sql.replace(
            "{count}",
            if ids.is_some() {
                "n.folder_id = ANY ($1)"
            } else {
                "true"
            },
        );
        let rows: Vec<FolderLine> = some(&sql, "f.id", ids).load(self.conn()?).await?;
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
        let sql = "SELECT g.id, coalesce(g.person_id, g.group_id) AS subject, coalesce(g.folder_id, g.credential_id) AS target, g.held, g.ends_at, g.only_kind, g.only_tag
             FROM access_grant g WHERE {some}";
        let rows: Vec<GrantLine> = some(sql, "g.id", ids).load(self.conn()?).await?;
        let grant = |row: GrantLine| {
            let only = Only {
                kind: row.only_kind,
                tag: row.only_tag,
            };
            Some(Grant {
                id: row.id,
                subject: row.subject,
                target: row.target,
                level: Level::from_number(row.held)?,
                ends_at: row.ends_at,
                only,
            })
        };
        Ok(rows.into_iter().filter_map(grant).collect())
    }

    async fn memberships(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<(Uuid, Uuid)>> {
        let rows: Vec<MemberLine> = some(
            "SELECT m.member, m.group_id FROM group_member m WHERE {some}",
            "m.member",
            ids,
        )
        .load(self.conn()?)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| (row.member, row.group_id))
            .collect())
    }

    async fn group_names(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<(Uuid, String)>> {
        let rows: Vec<Named> = some(
            "SELECT g.id, g.name, 'active' AS state FROM people_group g WHERE {some}",
            "g.id",
            ids,
        )
        .load(self.conn()?)
        .await?;
        Ok(rows.into_iter().map(|row| (row.id, row.name)).collect())
    }

    async fn person_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<PersonEntry>> {
        let rows: Vec<Named> = some(
            "SELECT p.id, p.display_name AS name, p.state FROM person p WHERE {some}",
            "p.id",
            ids,
        )
        .load(self.conn()?)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| PersonEntry {
                id: row.id,
                name: row.name,
                state: row.state.0,
            })
            .collect())
    }

    /// Where these credentials are and what they are, or all that have grants of their own; those that
    /// are removed left out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn single_entries(&mut self, ids: Option<&[Uuid]>) -> Result<Vec<SingleEntry>> {
        let sql = "SELECT c.id, c.folder_id, c.kind, c.tags, EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id) AS gate
             FROM credential c WHERE c.removed_at IS NULL AND {some}";
        let sql = if ids.is_some() {
            sql.to_owned()
        } else {
            sql.replace("{some}", "c.id IN (SELECT g.credential_id FROM access_grant g WHERE g.credential_id IS NOT NULL)")
        };
        let rows: Vec<SingleLine> = some(&sql, "c.id", ids).load(self.conn()?).await?;
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

    /// How many credentials narrowings fit, by folder and by which of them; these credentials left out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn cells(&mut self, narrowings: &Narrowings, without: &[Uuid]) -> Result<Vec<Cell>> {
        // Folders and credentials come as rows: a long list in a condition would cost the planner more
        // than the looking.
        let sql = "WITH narrowed AS MATERIALIZED (SELECT o.kind, o.tag, o.nth::integer FROM unnest($1, $2) WITH ORDINALITY AS o(kind, tag, nth)),
             wanted AS MATERIALIZED (SELECT unnest($3) AS id), without AS MATERIALIZED (SELECT unnest($4) AS id)
             SELECT c.folder_id, f.fits, count(*) AS credentials, count(*) FILTER (WHERE EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id)) AS own_gates
             FROM credential c CROSS JOIN LATERAL (
                SELECT array_agg(o.nth ORDER BY o.nth) AS fits FROM narrowed o WHERE (o.kind IS NULL OR o.kind = c.kind) AND (o.tag IS NULL OR o.tag = ANY (c.tags))
             ) f
             WHERE c.removed_at IS NULL AND f.fits IS NOT NULL AND c.folder_id IN (SELECT id FROM wanted) AND c.id NOT IN (SELECT id FROM without)
             GROUP BY 1, 2";
        let rows: Vec<CellLine> = statement(sql)
            .bind::<Array<Nullable<Text>>, _>(
                narrowings
                    .onlys
                    .iter()
                    .map(|only| only.kind.clone())
                    .collect::<Vec<_>>(),
            )
            .bind::<Array<Nullable<Text>>, _>(
                narrowings
                    .onlys
                    .iter()
                    .map(|only| only.tag.clone())
                    .collect::<Vec<_>>(),
            )
            .bind::<Array<Id>, _>(narrowings.folders.clone())
            .bind::<Array<Id>, _>(without.to_vec())
            .load(self.conn()?)
            .await?;
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
        let atlas = self.atlas().await?;
        match target {
            Target::Credential(id) => {
                let row = self.credential(id).await?;
                let place = format!(
                    "{}/{}",
                    atlas.name(row.folder_id).unwrap_or_default(),
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
                    atlas,
                })
            }
            Target::Folder(id) => {
                let row = self.folder(id).await?;
                Ok(Spot {
                    id,
                    credential: None,
                    place: atlas.name(row.id).unwrap_or_default(),
                    atlas,
                })
            }
        }
    }

    /// A folder and all below it, whatever is closed there.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn subtree(&mut self, folder: Uuid) -> Result<Vec<Uuid>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Id)]
            id: Uuid,
        }
        let rows: Vec<Row> = statement("SELECT subtree_of($1) AS id")
            .bind::<Id, _>(folder)
            .load(self.conn()?)
            .await?;
        Ok(rows.into_iter().map(|row| row.id).collect())
    }

    /// Makes one note of many about how many credentials lie in a folder, and forgets what everybody has
    /// seen of what changed. How many notes of the first kind went.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn fold_counts(&mut self) -> Result<i64> {
        #[derive(QueryableByName)]
        struct Gone {
            #[diesel(sql_type = BigInt)]
            gone: i64,
        }
        statement("SELECT forget_access_notes()")
            .execute(self.conn()?)
            .await?;
        let row: Gone = statement("SELECT fold_counts() AS gone")
            .get_result(self.conn()?)
            .await?;
        Ok(row.gone)
    }
}
