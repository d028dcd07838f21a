//! The part of the world that a change can touch, read for a preview of it.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::{RunQueryDsl, SimpleAsyncConnection as _};
use jexlin_core::access::Level;
use jexlin_core::access::preview::{People, Place, Places, Scene};
use uuid::Uuid;

use crate::sql::statement;
use crate::{Result, Target, Tx};

/// Where a change can touch anything: the credentials in these folders, and these.
#[derive(Clone, Debug, Default)]
pub struct Region {
    /// Folders, without what is below them.
    pub folders: Vec<Uuid>,
    /// Single credentials.
    pub credentials: Vec<Uuid>,
}

#[derive(QueryableByName)]
struct Id {
    #[diesel(sql_type = sql_types::Uuid)]
    id: Uuid,
}

#[derive(QueryableByName)]
struct PlaceRow {
    #[diesel(sql_type = sql_types::Uuid)]
    id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    folder_id: Uuid,
    #[diesel(sql_type = sql_types::Array<sql_types::Uuid>)]
    sources: Vec<Uuid>,
    #[diesel(sql_type = sql_types::BigInt)]
    credentials: i64,
    #[diesel(sql_type = sql_types::BigInt)]
    gated: i64,
}

#[derive(QueryableByName)]
struct Standing {
    #[diesel(sql_type = sql_types::Uuid)]
    subject: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    target: Uuid,
    #[diesel(sql_type = sql_types::SmallInt)]
    held: i16,
}

#[derive(QueryableByName)]
struct Meant {
    #[diesel(sql_type = sql_types::Uuid)]
    member: Uuid,
    #[diesel(sql_type = sql_types::Array<sql_types::Uuid>)]
    groups: Vec<Uuid>,
}

impl Standing {
    fn read(self) -> Option<(Uuid, Uuid, Level)> {
        Some((self.subject, self.target, Level::from_number(self.held)?))
    }
}

/// What of a scene a change can change; the rest is read once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Differs {
    /// Grants on these folders or credentials, none of them narrowed.
    Grants(Vec<Uuid>),
    /// Who is meant by whom.
    People,
    /// Anything.
    Anything,
}

const GATED_FOLDERS: &str = "gated(id) AS (
        SELECT g.folder_id FROM gate g WHERE g.folder_id IS NOT NULL AND g.credential_id IS NULL
        UNION SELECT f.id FROM gated JOIN folder f ON f.parent_id = gated.id
    )";
/// What a grant `g` stands on; a narrowed one has a place of its own, since what it reaches is not all
/// that is in a folder.
const STANDS_ON: &str = "CASE WHEN g.only_kind IS NOT NULL OR g.only_tag IS NOT NULL THEN g.id ELSE coalesce(g.folder_id, g.credential_id) END";

type Grants = Vec<(Uuid, Uuid, Level)>;

impl Tx {
    /// What grants on a target reach.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn region_of(&mut self, target: Target) -> Result<Region> {
        match target {
            Target::Credential(id) => Ok(Region { folders: vec![], credentials: vec![id] }),
            Target::Folder(id) => {
                let rows: Vec<Id> =
                    statement("SELECT s.folder_id AS id FROM folder_source s WHERE s.source_id = $1").bind::<sql_types::Uuid, _>(id).load(self.conn()?).await?;
                Ok(Region { folders: rows.into_iter().map(|row| row.id).collect(), credentials: vec![] })
            }
        }
    }

    /// What is below a folder, whatever is closed there, itself included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn region_below(&mut self, folder: Uuid) -> Result<Region> {
        let rows: Vec<Id> = statement("SELECT subtree_of($1) AS id").bind::<sql_types::Uuid, _>(folder).load(self.conn()?).await?;
        Ok(Region { folders: rows.into_iter().map(|row| row.id).collect(), credentials: vec![] })
    }

    /// What the grants to a group and to those that it is in reach.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn region_of_group(&mut self, group: Uuid) -> Result<Region> {
        let folders = "SELECT DISTINCT s.folder_id AS id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id
             WHERE g.group_id = ANY ((SELECT subjects_of($1))::uuid[])";
        let folders: Vec<Id> = statement(folders).bind::<sql_types::Uuid, _>(group).load(self.conn()?).await?;
        let single = "SELECT DISTINCT g.credential_id AS id FROM access_grant g WHERE g.credential_id IS NOT NULL AND g.group_id = ANY ((SELECT subjects_of($1))::uuid[])";
        let single: Vec<Id> = statement(single).bind::<sql_types::Uuid, _>(group).load(self.conn()?).await?;
        Ok(Region { folders: folders.into_iter().map(|row| row.id).collect(), credentials: single.into_iter().map(|row| row.id).collect() })
    }

    /// The people that a person or a group stands for, groups in groups included.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn people_of(&mut self, subjects: &[Uuid]) -> Result<Vec<Uuid>> {
        let sql = "WITH RECURSIVE down(id) AS (
                SELECT unnest($1)
                UNION SELECT m.member FROM down JOIN group_member m ON m.group_id = down.id
             ) SELECT p.id FROM down JOIN person p ON p.id = down.id WHERE p.state <> 'left'";
        let rows: Vec<Id> = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(subjects.to_vec()).load(self.conn()?).await?;
        Ok(rows.into_iter().map(|row| row.id).collect())
    }

    /// The credentials in a region that are to be looked at one by one: those that are asked for, have
    /// grants of their own, or are meant by a narrowed grant.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn looked_at_alone(&mut self, region: &Region, now: DateTime<Utc>) -> Result<Vec<Uuid>> {
        // Folders come as rows: a long list in a condition would cost the planner more than the looking.
        let sql = "WITH wanted AS MATERIALIZED (SELECT unnest($1) AS id)
             SELECT c.id FROM credential c WHERE c.id = ANY ($3)
             UNION SELECT c.id FROM access_grant g JOIN credential c ON c.id = g.credential_id
             WHERE g.credential_id IS NOT NULL AND (g.ends_at IS NULL OR $2 < g.ends_at) AND c.folder_id IN (SELECT id FROM wanted)
             UNION SELECT c.id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id JOIN credential c ON c.folder_id = s.folder_id
             WHERE (g.only_kind IS NOT NULL OR g.only_tag IS NOT NULL) AND (g.ends_at IS NULL OR $2 < g.ends_at) AND s.folder_id IN (SELECT id FROM wanted)
               AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))";
        let rows: Vec<Id> = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(region.folders.clone())
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(region.credentials.clone())
            .load(self.conn()?)
            .await?;
        Ok(rows.into_iter().map(|row| row.id).collect())
    }

    /// Notes how everything is, for [`Tx::back`].
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn mark(&mut self) -> Result<()> {
        Ok(self.conn()?.batch_execute("SAVEPOINT marked").await?)
    }

    /// Takes back what was done since [`Tx::mark`].
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn back(&mut self) -> Result<()> {
        Ok(self.conn()?.batch_execute("ROLLBACK TO SAVEPOINT marked").await?)
    }

    /// A region as it is now, its single credentials apart from their folders, for these people, or for
    /// everybody whom a grant there means.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn scene(&mut self, region: &Region, people: Option<&[Uuid]>, now: DateTime<Utc>) -> Result<Scene> {
        let places = self.places(region, now).await?;
        let (grants, people) = match people {
            Some(people) => {
                let people = self.meant(people).await?;
                (self.grants_of(&people, None, now).await?, people)
            }
            None => {
                let grants = self.grants_at(&places, now).await?;
                let subjects: BTreeSet<Uuid> = grants.iter().map(|(subject, ..)| *subject).collect();
                let people = self.people_of(&subjects.into_iter().collect::<Vec<_>>()).await?;
                (grants, self.meant(&people).await?)
            }
        };
        Ok(Scene { places: Arc::new(places), grants, people: Arc::new(people) })
    }

    /// The scene after a change that is made and is of this sort, when `before` was read before it. What
    /// the change leaves as it is is not read again, so that nothing is held for long by a change that
    /// is only looked at.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn scene_after(&mut self, before: &Scene, region: &Region, people: Option<&[Uuid]>, differs: &Differs, now: DateTime<Utc>) -> Result<Scene> {
        match (differs, people) {
            (Differs::Grants(targets), Some(_)) => {
                let mut grants: Grants = before.grants.iter().filter(|(_, target, _)| !targets.contains(target)).copied().collect();
                grants.extend(self.grants_of(&before.people, Some(targets), now).await?);
                Ok(Scene { places: Arc::clone(&before.places), grants, people: Arc::clone(&before.people) })
            }
            (Differs::People, Some(people)) => {
                let after = self.meant(people).await?;
                // Whom the change brings in or out changes which grants count, not the grants.
                let known: BTreeSet<Uuid> = before.people.values().flatten().copied().collect();
                let mut others = after.clone();
                for subjects in others.values_mut() {
                    subjects.retain(|subject| !known.contains(subject));
                }
                let mut grants = before.grants.clone();
                grants.extend(self.grants_of(&others, None, now).await?);
                Ok(Scene { places: Arc::clone(&before.places), grants, people: Arc::new(after) })
            }
            _ => self.scene(region, people, now).await,
        }
    }

    async fn places(&mut self, region: &Region, now: DateTime<Utc>) -> Result<Places> {
        let sql = format!(
            "WITH RECURSIVE {GATED_FOLDERS}
             SELECT c.id, c.folder_id, 1::bigint AS credentials,
                    CASE WHEN c.folder_id IN (SELECT id FROM gated) OR EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id) THEN 1 ELSE 0 END::bigint AS gated,
                    c.id || array(SELECT s.source_id FROM folder_source s WHERE s.folder_id = c.folder_id)
                    || array(SELECT g.id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id
                             WHERE (g.only_kind IS NOT NULL OR g.only_tag IS NOT NULL) AND (g.ends_at IS NULL OR $2 < g.ends_at) AND s.folder_id = c.folder_id
                               AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))) AS sources
             FROM credential c WHERE c.id = ANY ($1) AND c.removed_at IS NULL"
        );
        let single: Vec<PlaceRow> = if region.credentials.is_empty() {
            vec![]
        } else {
            let query = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(region.credentials.clone()).bind::<sql_types::Timestamptz, _>(now);
            query.load(self.conn()?).await?
        };
        // What is directly in a folder is counted as it comes and goes; what has a gate of its own is
        // counted here, and what is a place of its own is taken off again.
        let sql = format!(
            "WITH RECURSIVE {GATED_FOLDERS}, wanted AS MATERIALIZED (SELECT unnest($1) AS id), counted AS (
                SELECT n.folder_id AS id, sum(n.credentials)::bigint AS credentials FROM folder_count n WHERE n.folder_id IN (SELECT id FROM wanted)
                GROUP BY 1 HAVING sum(n.credentials) > 0
             ), source AS (
                SELECT s.folder_id AS id, array_agg(s.source_id) AS sources FROM folder_source s WHERE s.folder_id IN (SELECT id FROM wanted) GROUP BY 1
             ), own_gate AS (
                SELECT c.folder_id AS id, count(*) AS gated FROM gate g JOIN credential c ON c.id = g.credential_id
                WHERE c.removed_at IS NULL AND c.folder_id IN (SELECT id FROM wanted) GROUP BY 1
             )
             SELECT counted.id, counted.id AS folder_id, source.sources, counted.credentials,
                    CASE WHEN gated.id IS NOT NULL THEN counted.credentials ELSE coalesce(own_gate.gated, 0) END AS gated
             FROM counted JOIN source USING (id) LEFT JOIN gated USING (id) LEFT JOIN own_gate USING (id)"
        );
        let folders: Vec<PlaceRow> = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(region.folders.clone()).load(self.conn()?).await?;
        let count = |number: i64| u64::try_from(number).unwrap_or(0);
        let mut places: Places =
            folders.into_iter().map(|row| (row.id, Place { sources: row.sources, credentials: count(row.credentials), gated: count(row.gated) })).collect();
        for row in &single {
            if let Some(place) = places.get_mut(&row.folder_id) {
                place.credentials = place.credentials.saturating_sub(1);
                place.gated = place.gated.saturating_sub(count(row.gated));
            }
        }
        places.extend(single.into_iter().map(|row| (row.id, Place { sources: row.sources, credentials: 1, gated: count(row.gated) })));
        places.retain(|_, place| place.credentials > 0);
        Ok(places)
    }

    /// The people with themselves and all groups that they are in.
    async fn meant(&mut self, people: &[Uuid]) -> Result<People> {
        // Thousands of people share their groups: the groups above each are gone through once here,
        // where the database would do it for each of them.
        let sql = "SELECT m.member, array_agg(m.group_id) AS groups FROM group_member m WHERE m.member_is_group OR m.member IN (SELECT unnest($1)) GROUP BY 1";
        let rows: Vec<Meant> = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(people.to_vec()).load(self.conn()?).await?;
        let direct: HashMap<Uuid, Vec<Uuid>> = rows.into_iter().map(|row| (row.member, row.groups)).collect();
        Ok(people
            .iter()
            .map(|person| {
                let (mut all, mut next) = (BTreeSet::from([*person]), vec![*person]);
                while let Some(groups) = next.pop().map(|subject| direct.get(&subject)) {
                    next.extend(groups.into_iter().flatten().filter(|group| all.insert(**group)));
                }
                (*person, all)
            })
            .collect())
    }

    /// The grants to these people and their groups; with `on`, those on these targets alone.
    async fn grants_of(&mut self, people: &People, on: Option<&[Uuid]>, now: DateTime<Utc>) -> Result<Grants> {
        let subjects: BTreeSet<Uuid> = people.values().flatten().copied().collect();
        let on_these = if on.is_some() { "AND (g.folder_id = ANY ($3) OR g.credential_id = ANY ($3))" } else { "AND cardinality($3) = 0" };
        let sql = format!(
            "WITH wanted AS MATERIALIZED (SELECT unnest($1) AS id)
             SELECT coalesce(g.person_id, g.group_id) AS subject, {STANDS_ON} AS target, g.held FROM access_grant g
             WHERE (g.ends_at IS NULL OR $2 < g.ends_at) AND coalesce(g.person_id, g.group_id) IN (SELECT id FROM wanted) {on_these}"
        );
        let rows = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(subjects.into_iter().collect::<Vec<_>>())
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(on.unwrap_or_default().to_vec());
        Ok(rows.load(self.conn()?).await?.into_iter().filter_map(Standing::read).collect())
    }

    /// The grants that reach these places.
    async fn grants_at(&mut self, places: &Places, now: DateTime<Utc>) -> Result<Grants> {
        let sources: BTreeSet<Uuid> = places.values().flat_map(|place| &place.sources).copied().collect();
        let sql = format!(
            "WITH wanted AS MATERIALIZED (SELECT unnest($1) AS id)
             SELECT coalesce(g.person_id, g.group_id) AS subject, {STANDS_ON} AS target, g.held FROM access_grant g
             WHERE (g.ends_at IS NULL OR $2 < g.ends_at) AND {STANDS_ON} IN (SELECT id FROM wanted)"
        );
        let rows = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(sources.into_iter().collect::<Vec<_>>()).bind::<sql_types::Timestamptz, _>(now);
        Ok(rows.load(self.conn()?).await?.into_iter().filter_map(Standing::read).collect())
    }

    /// Makes one note of many about how many credentials lie in a folder. How many notes went.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn fold_counts(&mut self) -> Result<i64> {
        #[derive(QueryableByName)]
        struct Gone {
            #[diesel(sql_type = sql_types::BigInt)]
            gone: i64,
        }
        let row: Gone = statement("SELECT fold_counts() AS gone").get_result(self.conn()?).await?;
        Ok(row.gone)
    }
}
