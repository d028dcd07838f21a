//! The part of the world that a change can touch, read for a preview of it.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::{RunQueryDsl, SimpleAsyncConnection as _};
use jexlin_core::access::Level;
use jexlin_core::access::preview::{Place, Scene};
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
    person: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    subject: Uuid,
}

/// Whether a gate stands before a credential `c`: its own, or one of a folder above.
const GATED: &str = "(c.folder_id IN (SELECT id FROM gated) OR EXISTS (SELECT FROM gate g WHERE g.credential_id = c.id))";
const GATED_FOLDERS: &str = "gated(id) AS (
        SELECT g.folder_id FROM gate g WHERE g.folder_id IS NOT NULL AND g.credential_id IS NULL
        UNION SELECT f.id FROM gated JOIN folder f ON f.parent_id = gated.id
    )";
/// Grants that count at `$2`, the narrowed ones under an identifier of their own: what they reach is
/// not all that is in a folder.
const COUNTING: &str = "counting AS MATERIALIZED (
        SELECT g.id, coalesce(g.person_id, g.group_id) AS subject, g.folder_id, g.credential_id, g.held, g.only_kind, g.only_tag,
               g.only_kind IS NOT NULL OR g.only_tag IS NOT NULL AS narrowed
        FROM access_grant g WHERE g.ends_at IS NULL OR $2 < g.ends_at
    )";

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
        let sql = format!(
            "WITH {COUNTING}
             SELECT c.id FROM credential c WHERE c.id = ANY ($3)
             UNION SELECT c.id FROM counting g JOIN credential c ON c.id = g.credential_id WHERE c.folder_id = ANY ($1)
             UNION SELECT c.id FROM counting g JOIN folder_source s ON s.source_id = g.folder_id JOIN credential c ON c.folder_id = s.folder_id
             WHERE g.narrowed AND s.folder_id = ANY ($1) AND (g.only_kind IS NULL OR g.only_kind = c.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))"
        );
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

    /// A region as it is now, its single credentials apart from their folders, for these people, or for everybody whom a grant there means.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn scene(&mut self, region: &Region, people: Option<&[Uuid]>, now: DateTime<Utc>) -> Result<Scene> {
        let mut places = BTreeMap::new();
        let sql = format!(
            "WITH RECURSIVE {GATED_FOLDERS}, {COUNTING}
             SELECT c.id, 1::bigint AS credentials, CASE WHEN {GATED} THEN 1 ELSE 0 END::bigint AS gated,
                    c.id || array(SELECT s.source_id FROM folder_source s WHERE s.folder_id = c.folder_id)
                    || array(SELECT g.id FROM counting g JOIN folder_source s ON s.source_id = g.folder_id
                             WHERE g.narrowed AND s.folder_id = c.folder_id AND (g.only_kind IS NULL OR g.only_kind = c.kind)
                               AND (g.only_tag IS NULL OR g.only_tag = ANY (c.tags))) AS sources
             FROM credential c WHERE c.id = ANY ($1) AND c.removed_at IS NULL"
        );
        let single: Vec<PlaceRow> = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(region.credentials.clone())
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?;
        let sql = format!(
            "WITH RECURSIVE {GATED_FOLDERS}
             SELECT f.id, array(SELECT s.source_id FROM folder_source s WHERE s.folder_id = f.id) AS sources, n.credentials, n.gated
             FROM unnest($1) AS f(id)
             CROSS JOIN LATERAL (SELECT count(*) AS credentials, count(*) FILTER (WHERE {GATED}) AS gated FROM credential c
                                 WHERE c.folder_id = f.id AND c.removed_at IS NULL AND c.id <> ALL ($2)) n
             WHERE n.credentials > 0"
        );
        let alone: Vec<Uuid> = single.iter().map(|row| row.id).collect();
        let folders: Vec<PlaceRow> = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(region.folders.clone())
            .bind::<sql_types::Array<sql_types::Uuid>, _>(alone)
            .load(self.conn()?)
            .await?;
        let mut sources = BTreeSet::new();
        for row in single.into_iter().chain(folders) {
            sources.extend(row.sources.iter().copied());
            let count = |number: i64| u64::try_from(number).unwrap_or(0);
            places.insert(row.id, Place { sources: row.sources, credentials: count(row.credentials), gated: count(row.gated) });
        }
        let sql = format!(
            "WITH {COUNTING} SELECT g.subject, CASE WHEN g.narrowed THEN g.id ELSE coalesce(g.folder_id, g.credential_id) END AS target, g.held
             FROM counting g WHERE CASE WHEN g.narrowed THEN g.id ELSE coalesce(g.folder_id, g.credential_id) END = ANY ($1)"
        );
        let standing: Vec<Standing> = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(sources.into_iter().collect::<Vec<_>>())
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?;
        let people = match people {
            Some(people) => people.to_vec(),
            None => {
                let subjects: BTreeSet<Uuid> = standing.iter().map(|grant| grant.subject).collect();
                self.people_of(&subjects.into_iter().collect::<Vec<_>>()).await?
            }
        };
        let mut scene = Scene { places, ..Scene::default() };
        let sql = "WITH RECURSIVE up(person, subject) AS (
                SELECT p, p FROM unnest($1) AS p
                UNION SELECT up.person, m.group_id FROM up JOIN group_member m ON m.member = up.subject
             ) SELECT person, subject FROM up";
        let meant: Vec<Meant> = statement(sql).bind::<sql_types::Array<sql_types::Uuid>, _>(people).load(self.conn()?).await?;
        let mut subjects = BTreeSet::new();
        for row in meant {
            subjects.insert(row.subject);
            scene.people.entry(row.person).or_default().insert(row.subject);
        }
        scene.grants = standing
            .into_iter()
            .filter(|grant| subjects.contains(&grant.subject))
            .filter_map(|grant| Some((grant.subject, grant.target, Level::from_number(grant.held)?)))
            .collect();
        Ok(scene)
    }
}
