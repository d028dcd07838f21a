//! Lists of credentials: narrowed, searched, page by page.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::access::{Level, Reach};
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::vault::CredentialView;
use jexlin_core::words::Word as _;
use serde::Serialize;
use uuid::Uuid;

use crate::sql::statement;
use crate::stored::Stored;
use crate::{Result, StoreError, Tx};

/// A credential in a list.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialListing {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    pub folder_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub kind: String,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Jsonb)]
    pub fields: serde_json::Value,
    #[diesel(sql_type = sql_types::SmallInt)]
    pub held: i16,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub device_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub device_name: Option<String>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub check_outcome: Option<Stored<CheckOutcome>>,
    #[diesel(sql_type = sql_types::Bool)]
    pub gated: bool,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
    pub tags: Vec<String>,
    #[diesel(sql_type = sql_types::Bool)]
    pub favourite: bool,
    /// In the core's words; empty for whoever may not see the password.
    #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
    pub findings: Vec<String>,
    #[diesel(sql_type = sql_types::Timestamptz)]
    pub changed_at: DateTime<Utc>,
    /// A grant stands on itself.
    #[diesel(sql_type = sql_types::Bool)]
    pub own_grants: bool,
    /// A grant to somebody else reaches it.
    #[diesel(sql_type = sql_types::Bool)]
    pub shared: bool,
}

impl CredentialListing {
    /// What reaches the one whose list it is in.
    #[must_use]
    pub fn reach(&self, viewer: Uuid) -> Reach {
        crate::access::read_reach(viewer, self.id, Level::from_number(self.held))
    }
}

/// From where on something is a finding.
#[derive(Clone, Copy, Debug, Default)]
#[allow(missing_docs, reason = "the settings in the core describe them")]
pub struct Thresholds {
    pub weak_below: i32,
    pub old_days: i32,
    pub soon_days: i32,
}

/// Which credentials to list. Texts are parts, in any case.
#[derive(Clone, Debug, Default)]
pub struct ListQuery {
    /// Only in this folder.
    pub folder: Option<Uuid>,
    /// Only in this folder or below it.
    pub below: Option<Uuid>,
    /// Only those that hold each of these words anywhere that is not secret, or in the name of their
    /// device or folder.
    pub find: Vec<String>,
    /// Whatever resembles these words instead, the nearest first; there is one page of it.
    pub nearly: bool,
    /// Only with this in their name.
    pub name: Option<String>,
    /// Only with this in their user name.
    pub user_name: Option<String>,
    /// Only of this kind.
    pub kind: Option<String>,
    /// Only with this tag.
    pub tag: Option<String>,
    /// Only with this in the name of their device.
    pub device: Option<String>,
    /// Only with this outcome of their last check.
    pub check: Option<String>,
    /// Only with this finding, or with `any`.
    pub finding: Option<String>,
    /// Only in this view.
    pub view: Option<CredentialView>,
    /// Only these.
    pub only: Option<Vec<Uuid>>,
    /// From where on something is a finding.
    pub thresholds: Thresholds,
    /// Whoever reaches so many folders has all names gone through in order for a page of everything,
    /// instead of what is in each folder; left out, it is weighed. It changes how long that takes, and
    /// nothing else.
    pub many_folders: Option<i32>,
    /// Only after this name and identifier, in order.
    pub after: Option<(String, Uuid)>,
    /// At most so many.
    pub most: i64,
}

/// What `page_of` is told to look for; the migration says what each is.
#[derive(Serialize)]
struct Wanted<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    folder: Option<Uuid>,
    #[serde(skip_serializing_if = "Option::is_none")]
    below: Option<Uuid>,
    words: Vec<String>,
    nearly: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    user_name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    device: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    kind: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tag: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    check: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    finding: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    view: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    only: Option<&'a [Uuid]>,
    weak_below: i32,
    old_days: i32,
    soon_days: i32,
}

impl ListQuery {
    fn wanted(&self) -> Wanted<'_> {
        let part = |text: &Option<String>| text.as_deref().map(part);
        Wanted {
            folder: self.folder,
            below: self.below,
            words: if self.nearly {
                vec![]
            } else {
                self.find
                    .iter()
                    .map(|word| crate::credential_lists::part(word))
                    .collect()
            },
            nearly: if self.nearly {
                self.find.iter().map(|word| word.to_lowercase()).collect()
            } else {
                vec![]
            },
            name: part(&self.name),
            user_name: part(&self.user_name),
            device: part(&self.device),
            kind: self.kind.as_deref(),
            tag: self.tag.as_deref(),
            check: self.check.as_deref(),
            finding: self.finding.as_deref(),
            view: self.view.map(CredentialView::word),
            only: self.only.as_deref(),
            weak_below: self.thresholds.weak_below,
            old_days: self.thresholds.old_days,
            soon_days: self.thresholds.soon_days,
        }
    }
}

/// A pattern that finds a text anywhere; its own signs stand for themselves.
pub(crate) fn part(text: &str) -> String {
    format!(
        "%{}%",
        text.to_lowercase()
            .replace('\\', "\\\\")
            .replace('%', "\\%")
            .replace('_', "\\_")
    )
}

impl Tx {
    /// The credentials that somebody may know of, in the order of their names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn list_credentials(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        query: &ListQuery,
    ) -> Result<Vec<CredentialListing>> {
        let (after_name, after_id) = query.after.clone().unwrap_or_default();
        let wanted = serde_json::to_value(query.wanted())
            .map_err(|error| StoreError::Broken(error.to_string()))?;
        // What `findings_of` says of one is said here of a whole page at once.
        let sql = "WITH RECURSIVE page AS MATERIALIZED (
                SELECT c.id, c.folder_id, c.kind, c.name, c.fields, c.device_id, c.tags, c.changed_at, a.level AS held, a.place AS number
                FROM page_of($1, $2, $4, $5, $3, $9, $10) a JOIN credential c ON c.id = a.found
            ), up(folder_id, id, parent_id, name, depth) AS (
                SELECT f.id, f.id, f.parent_id, f.name, 0 FROM (SELECT DISTINCT p.folder_id FROM page p) v
                CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = v.folder_id OFFSET 0) f
                UNION ALL
                SELECT up.folder_id, f.id, f.parent_id, f.name, up.depth + 1 FROM up
                CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = up.parent_id OFFSET 0) f WHERE up.depth < 1000
            ), places AS MATERIALIZED (
                SELECT up.folder_id, string_agg('/' || up.name, '' ORDER BY up.depth DESC) AS place, bool_or(g.id IS NOT NULL) AS gated
                FROM up LEFT JOIN gate g ON g.folder_id = up.id AND g.credential_id IS NULL GROUP BY 1
            )
            SELECT p.id, p.folder_id, p.kind, p.name, p.fields, p.held, p.device_id, p.tags, p.changed_at, d.name AS device_name, u.check_outcome,
                   l.gated OR EXISTS (SELECT FROM gate g WHERE g.credential_id = p.id) OR (p.device_id IS NOT NULL AND cardinality(gates_of(p.id)) > 0) AS gated, l.place,
                   EXISTS (SELECT FROM favourite v WHERE v.person_id = $1 AND v.credential_id = p.id) AS favourite,
                   w.others IS NOT NULL AS own_grants,
                   coalesce(w.others, false) OR EXISTS (SELECT FROM folder_source s JOIN access_grant g ON g.folder_id = s.source_id
                       WHERE s.folder_id = p.folder_id AND g.person_id IS DISTINCT FROM $1 AND (g.ends_at IS NULL OR $2 < g.ends_at)
                         AND (g.only_kind IS NULL OR g.only_kind = p.kind) AND (g.only_tag IS NULL OR g.only_tag = ANY (p.tags))) AS shared,
                   CASE WHEN p.held < 3 THEN '{}'::text[] ELSE array_remove(ARRAY[
                       CASE WHEN z.seen AND j.leaked > 0 THEN 'leaked' END,
                       CASE WHEN u.check_outcome = 'out of sync' THEN 'out-of-sync' END,
                       CASE WHEN z.seen AND j.score < $6 THEN 'weak' END,
                       CASE WHEN z.seen AND EXISTS (SELECT FROM judgement o JOIN credential c ON c.id = o.credential_id
                                         WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> p.id AND c.removed_at IS NULL
                                           AND sees_value($1, c.id, $2)) THEN 'reused' END,
                       CASE WHEN x.ends < $2::date THEN 'expired' END,
                       CASE WHEN z.seen AND cardinality(j.lacks) > 0 THEN 'breaks-policy' END,
                       CASE WHEN x.ends >= $2::date AND x.ends < $2::date + $8 THEN 'expires-soon' END,
                       CASE WHEN $7 > 0 AND j.made_at < $2 - make_interval(days => $7) THEN 'old' END], NULL) END AS findings
            FROM page p JOIN places l ON l.folder_id = p.folder_id LEFT JOIN device d ON d.id = p.device_id LEFT JOIN upkeep_state u ON u.credential_id = p.id
            LEFT JOIN judgement j ON j.credential_id = p.id
            CROSS JOIN LATERAL (SELECT bool_or(g.person_id IS DISTINCT FROM $1) AS others FROM access_grant g
                                WHERE g.credential_id = p.id AND (g.ends_at IS NULL OR $2 < g.ends_at)) w
            CROSS JOIN LATERAL (SELECT CASE WHEN p.fields->>'expires' ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$' THEN to_date(p.fields->>'expires', 'YYYY-MM-DD') END AS ends) x
            CROSS JOIN LATERAL (SELECT NOT (l.gated OR p.device_id IS NOT NULL OR EXISTS (SELECT FROM gate g WHERE g.credential_id = p.id))
                                       OR (p.held >= 3 AND sees_value($1, p.id, $2)) AS seen) z
            ORDER BY p.number";
        let rows = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::BigInt, _>(query.most)
            .bind::<sql_types::Text, _>(after_name.to_lowercase())
            .bind::<sql_types::Uuid, _>(after_id)
            .bind::<sql_types::Int4, _>(query.thresholds.weak_below)
            .bind::<sql_types::Int4, _>(query.thresholds.old_days)
            .bind::<sql_types::Int4, _>(query.thresholds.soon_days)
            .bind::<sql_types::Nullable<sql_types::Int4>, _>(query.many_folders)
            .bind::<sql_types::Jsonb, _>(wanted);
        Ok(rows.load(self.conn()?).await?)
    }

    /// What is wrong with a credential, for somebody who may see its password.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn findings_of(
        &mut self,
        credential: Uuid,
        viewer: Uuid,
        now: DateTime<Utc>,
        from: Thresholds,
    ) -> Result<Vec<String>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
            findings: Vec<String>,
        }
        let row: Row = statement("SELECT findings_of($1, $2, $3, $4, $5, $6) AS findings")
            .bind::<sql_types::Uuid, _>(credential)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Int4, _>(from.weak_below)
            .bind::<sql_types::Int4, _>(from.old_days)
            .bind::<sql_types::Int4, _>(from.soon_days)
            .get_result(self.conn()?)
            .await?;
        Ok(row.findings)
    }
}
